import type { Edit, Schemas } from "../../api/client";
import { useSetChoices } from "../../api/queries";
import { Button } from "../../components/controls";
import { Fold } from "../../components/Fold";
import { detailsOf } from "./details";

type Departures = Schemas["Departures"];

const CONTENT: Record<string, string> = {
  colour: "colour",
  data: "plain numbers",
  normal: "directions",
  "cut-out": "cut-out with holes",
};
const FILTER: Record<string, string> = {
  box: "box (soft)",
  triangle: "triangle (softest)",
  cubic: "cubic",
  kaiser: "Kaiser (sharp)",
  lanczos: "Lanczos (sharpest)",
};
const AVERAGED: Record<string, string> = { light: "as light", stored: "as stored numbers" };
/** From here on the original's own levels told clearly how they were made. */
const TOLD = 0.02;
const EFFORT: Record<string, string> = {
  fast: "fast",
  normal: "normal",
  high: "high, for the last build",
  best: "best, several times as long",
};

/** What is taken from the original, and where a person departs from it; the cost shows on the match sheet. */
export function Encoding({ project, edit }: { project: string; edit: Edit }) {
  const set = useSetChoices(project);
  const { recipe, choices, formats, most_mips } = detailsOf(edit);
  const departs = Object.values(choices).some((value) => value !== null && value !== undefined);
  const choose = (change: Partial<Departures>) =>
    set.mutate({ address: edit.address, choices: { ...choices, ...change } });
  const value = <K extends keyof Departures & keyof typeof recipe>(name: K) => choices[name] ?? recipe[name];
  return (
    <Fold title="How it is encoded" words={departs ? "your choices" : "like the original"}>
      <div className="mt-3 grid gap-2">
        <Select
          label="Pixel format"
          original={recipe.format}
          value={value("format") as string}
          options={Object.fromEntries([recipe.format, ...formats].map((name) => [name, name]))}
          onChange={(format) => choose({ format })}
        />
        <Select
          label="What it holds"
          original={recipe.content}
          value={value("content") as string}
          options={CONTENT}
          onChange={(content) => choose({ content: content as Departures["content"] })}
        />
        <Select
          label="Mip levels"
          original={String(recipe.levels)}
          value={String(value("levels"))}
          options={levelWords(most_mips)}
          onChange={(levels) => choose({ levels: Number(levels) })}
        />
        {Number(value("levels")) > 1 && (
          <Select
            label="Mip filter"
            original={recipe.filter}
            value={value("filter") as string}
            options={FILTER}
            onChange={(filter) => choose({ filter: filter as Departures["filter"] })}
          />
        )}
        {Number(value("levels")) > 1 && ["colour", "cut-out"].includes(String(value("content"))) && (
          <Select
            label="Averaged"
            original={recipe.linear ? "light" : "stored"}
            value={value("linear") ? "light" : "stored"}
            options={AVERAGED}
            onChange={(how) => choose({ linear: how === "light" })}
          />
        )}
        {recipe.levels > 1 && recipe.levels_sure >= TOLD && (
          <p className="text-quiet">Filter and light are those that the game's own levels were made with.</p>
        )}
        <Select
          label="Effort"
          original={recipe.effort}
          value={value("effort") as string}
          options={EFFORT}
          onChange={(effort) => choose({ effort: effort as Departures["effort"] })}
        />
        <Tick
          label="It repeats: edges are averaged with the opposite ones"
          on={Boolean(value("wrap"))}
          onChange={(wrap) => choose({ wrap })}
        />
        <Tick
          label="Weigh colours as the eye does"
          on={Boolean(value("perceptual"))}
          onChange={(perceptual) => choose({ perceptual })}
        />
        {departs && (
          <Button
            className="justify-self-start"
            onClick={() => set.mutate({ address: edit.address, choices: {} })}
          >
            Like the original again
          </Button>
        )}
      </div>
    </Fold>
  );
}

/** Each number of levels up to all that there can be, in words. */
function levelWords(all: number): Record<string, string> {
  const words = (count: number) =>
    count === 1 ? "none but itself" : count === all ? `all ${all}` : `${count}`;
  return Object.fromEntries(Array.from({ length: all }, (_, index) => [index + 1, words(index + 1)]));
}

function Select({
  label,
  original,
  value,
  options,
  onChange,
}: {
  label: string;
  original: string;
  value: string;
  options: Record<string, string>;
  onChange: (value: string) => void;
}) {
  return (
    <label className="grid grid-cols-[110px_1fr] items-center gap-2">
      <span className="text-quiet">{label}</span>
      <select
        value={value}
        onChange={(event) => onChange(event.target.value)}
        className="min-w-0 rounded-lg bg-sunk px-2 py-1"
      >
        {Object.entries(options).map(([id, words]) => (
          <option key={id} value={id}>
            {words}
            {id === original ? " (original)" : ""}
          </option>
        ))}
      </select>
    </label>
  );
}

function Tick({ label, on, onChange }: { label: string; on: boolean; onChange: (on: boolean) => void }) {
  return (
    <label className="flex items-center gap-2">
      <input
        type="checkbox"
        checked={on}
        onChange={(event) => onChange(event.target.checked)}
        className="size-4 accent-heather"
      />
      {label}
    </label>
  );
}
