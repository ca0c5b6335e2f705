/** A material as what it is: its textures as pictures, colours, numbers and switches; its text beside that. */
import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { client, type Edit, type Member, previewUrl, type Schemas, take } from "../../api/client";
import { useAct, useMakeNew, useProposal } from "../../api/queries";
import { Button, Tick } from "../../components/controls";
import { ShownText } from "../plain";
import { itemOf } from "./paths";

type Value = Schemas["MaterialValue"];
type Change = { key: string; value: string; item?: boolean };
const MOST = 24;
const TITLES = {
  shader: "Shader",
  texture: "Textures",
  colour: "Colours",
  number: "Numbers",
  switch: "Switches",
};

export default function Compare({ project, edit }: { project: string; edit: Edit }) {
  const { data } = useQuery({
    queryKey: ["values", project, edit.address, edit.revision],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/material/values", {
          params: { path: { project_id: project }, query: { address: edit.address } },
        }),
      ),
    placeholderData: (before) => before,
  });
  const set = useAct(({ key, value, item }: Change) =>
    take(
      client.PUT("/api/projects/{project_id}/material/value", {
        params: { path: { project_id: project }, query: { address: edit.address, key, value, item } },
      }),
    ),
  );
  if (!data) return <div className="ground h-full rounded-xl" />;
  const sorts = Object.entries(TITLES).filter(([sort]) => data.edit.some((one) => one.sort === sort));
  const before = new Map(data.original.map((one) => [one.key, one.value]));
  return (
    <div className="flex h-full min-h-0 gap-4">
      <div className="grid min-w-0 flex-1 content-start gap-5 overflow-auto pr-1">
        {sorts.map(([sort, title]) => (
          <section key={sort} aria-label={title} className="grid gap-2">
            <h2 className="font-bold">{title}</h2>
            {data.edit
              .filter((one) => one.sort === sort)
              .map((one) => (
                <div key={`${one.key} ${one.value}`} className="grid gap-1 rounded-xl bg-raised p-3">
                  <div className="flex items-baseline gap-2">
                    <b className="font-normal text-quiet">{one.role === sort ? one.key : one.role}</b>
                    {before.get(one.key) !== one.value && (
                      <span className="text-[13.5px] text-quiet">
                        was {before.get(one.key) ?? "not there"}
                      </span>
                    )}
                  </div>
                  {one.sort === "texture" ? (
                    <Texture
                      project={project}
                      value={one}
                      rules={data}
                      busy={set.isPending}
                      onSet={set.mutate}
                    />
                  ) : (
                    <Plain value={one} busy={set.isPending} onSet={set.mutate} />
                  )}
                </div>
              ))}
          </section>
        ))}
      </div>
      <section
        aria-label="Its text"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling text must be reachable by keyboard
        tabIndex={0}
        className="hidden min-h-0 w-[44%] overflow-auto rounded-xl bg-raised p-3 min-[1100px]:block"
      >
        <ShownText
          url={previewUrl(project, edit.address, {
            which: edit.position ? "edit" : "original",
            revision: edit.revision,
          })}
        />
      </section>
    </div>
  );
}

/** The textures of the game that have some words in their names. */
const useTextures = (project: string, words: string, on: boolean) =>
  useQuery({
    queryKey: ["members", project, "textures of", words],
    enabled: on,
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/members", {
          params: { path: { project_id: project }, query: { q: `kind:texture ${words}`, limit: MOST } },
        }),
      ),
  });

function Texture({
  project,
  value,
  rules,
  busy,
  onSet,
}: {
  project: string;
  value: Value;
  rules: Schemas["MaterialValues"];
  busy: boolean;
  onSet: (change: Change) => void;
}) {
  const [open, setOpen] = useState(false);
  const [words, setWords] = useState("");
  const means = itemOf(rules, value.value ?? "");
  const here = useTextures(project, `"${means}"`, (value.value ?? "") !== "").data?.items.find(
    (one) => one.name.toLowerCase() === means.toLowerCase(),
  );
  const found = useTextures(project, words, open);
  return (
    <>
      <div className="flex items-center gap-3">
        <span className="ground grid size-24 shrink-0 place-items-center overflow-hidden rounded-lg">
          {here ? (
            <Picture project={project} member={here} side={96} />
          ) : (
            <span className="p-2 text-center text-[13px] text-[#161616]">no such texture</span>
          )}
        </span>
        <div className="grid min-w-0 flex-1 gap-2">
          <Field
            label={`${value.role} texture`}
            value={value.value ?? ""}
            busy={busy}
            onDone={(text) => onSet({ key: value.key, value: text })}
          />
          <div className="flex flex-wrap gap-2">
            <Button look="quiet" aria-expanded={open} onClick={() => setOpen(!open)}>
              {open ? "Close" : "Choose another"}
            </Button>
            {here && (
              <OwnPicture
                project={project}
                like={here}
                onMade={(name) => onSet({ key: value.key, value: name, item: true })}
              />
            )}
          </div>
        </div>
      </div>
      {open && (
        <div className="grid gap-2">
          <input
            aria-label="Find a texture"
            placeholder="words of its name"
            className="rounded-lg border border-line bg-ground px-2 py-1.5"
            value={words}
            onChange={(event) => setWords(event.target.value)}
          />
          <div className="grid max-h-64 grid-cols-[repeat(auto-fill,minmax(5.5rem,1fr))] gap-2 overflow-auto">
            {found.data?.items.map((member) => (
              <button
                key={member.address}
                type="button"
                disabled={busy}
                title={member.name}
                onClick={() => {
                  onSet({ key: value.key, value: member.name, item: true });
                  setOpen(false);
                }}
                className="grid gap-1 rounded-lg p-1 text-left hover:bg-sunk"
              >
                <span className="ground grid h-20 place-items-center overflow-hidden rounded">
                  <Picture project={project} member={member} side={80} />
                </span>
                <span className="truncate text-[13px]">{member.name.split("/").pop()}</span>
              </button>
            ))}
          </div>
        </div>
      )}
    </>
  );
}

/** A picture of the person's own as a new texture of the game, like the one that is there now. */
function OwnPicture({
  project,
  like,
  onMade,
}: {
  project: string;
  like: Member;
  onMade: (name: string) => void;
}) {
  const chooser = useRef<HTMLInputElement>(null);
  const { data: proposal } = useProposal(project, like.address);
  const make = useMakeNew(project, () => proposal && onMade(proposal.name));
  return (
    <>
      <Button look="quiet" disabled={!proposal || make.isPending} onClick={() => chooser.current?.click()}>
        {make.isPending ? "Making it…" : "A picture of yours"}
      </Button>
      <input
        ref={chooser}
        type="file"
        className="sr-only"
        tabIndex={-1}
        aria-label={`A picture in the place of ${like.name}`}
        onChange={(event) => {
          const file = event.target.files?.[0];
          event.target.value = "";
          if (file && proposal)
            make.mutate({ like: like.address, name: proposal.name, file, most: proposal.most });
        }}
      />
    </>
  );
}

function Picture({ project, member, side }: { project: string; member: Member; side: number }) {
  return (
    <img
      alt={member.name}
      className="size-full object-contain"
      src={previewUrl(project, member.address, { fit: side * 2 })}
    />
  );
}

/** A text that is set when it is left, or by Enter. */
function Field({
  label,
  value,
  busy,
  onDone,
}: {
  label: string;
  value: string;
  busy: boolean;
  onDone: (text: string) => void;
}) {
  const [text, setText] = useState(value);
  const done = () => {
    if (text !== value) onDone(text);
  };
  return (
    <input
      aria-label={label}
      className="w-full min-w-0 rounded-lg border border-line bg-ground px-2 py-1.5"
      value={text}
      disabled={busy}
      onChange={(event) => setText(event.target.value)}
      onBlur={done}
      onKeyDown={(event) => event.key === "Enter" && done()}
    />
  );
}

const ON = ["1", "true", "yes", "on"];
const WAYS: [string, string][] = [
  ["yes", "no"],
  ["true", "false"],
  ["on", "off"],
  ["1", "0"],
];

function Plain({ value, busy, onSet }: { value: Value; busy: boolean; onSet: (change: Change) => void }) {
  const said = value.value ?? "";
  const put = (text: string) => onSet({ key: value.key, value: text });
  if (value.sort === "switch") {
    const on = ON.includes(said.toLowerCase());
    const way = WAYS.find((one) => one.includes(said.toLowerCase())) ?? ["1", "0"];
    return (
      <Tick title={value.role} checked={on} onChange={() => !busy && put(way[on ? 1 : 0] ?? "")}>
        {value.role}: {said || "not there"}
      </Tick>
    );
  }
  if (value.sort === "colour") return <Colour value={value} busy={busy} onSet={put} />;
  const ranged = value.sort === "number" && value.least != null && value.most != null;
  return (
    <div className="flex items-center gap-3">
      <div className="w-32">
        <Field label={value.role} value={said} busy={busy} onDone={put} />
      </div>
      {ranged && (
        <Slider
          value={Number(said)}
          least={value.least ?? 0}
          most={value.most ?? 1}
          label={value.role}
          onDone={put}
        />
      )}
      {value.sort === "number" && (value.least != null || value.most != null) && (
        <span className="text-[13.5px] text-quiet">
          {value.least ?? ""} to {value.most ?? ""}
        </span>
      )}
    </div>
  );
}

function Slider({
  value,
  least,
  most,
  label,
  onDone,
}: {
  value: number;
  least: number;
  most: number;
  label: string;
  onDone: (text: string) => void;
}) {
  const [at, setAt] = useState(value);
  const done = () => {
    if (at !== value) onDone(String(at));
  };
  return (
    <input
      type="range"
      className="min-w-0 flex-1 accent-heather"
      aria-label={`${label}, by hand`}
      min={least}
      max={most}
      step={(most - least) / 100}
      value={at}
      onChange={(event) => setAt(Number(Number(event.target.value).toPrecision(4)))}
      onPointerUp={done}
      onKeyUp={done}
    />
  );
}

/** Three numbers as a colour, from 0 to 1 or to 255 as they are written; what stands between them is kept. */
function Colour({ value, busy, onSet }: { value: Value; busy: boolean; onSet: (text: string) => void }) {
  const said = value.value ?? "";
  const numbers = said.match(/-?\d*\.?\d+(?:[eE][+-]?\d+)?/g) ?? [];
  const bytes = numbers.some((one) => Number(one) > 1);
  const hex = numbers
    .slice(0, 3)
    .map((one) => Math.min(255, Math.max(0, Math.round(Number(one) * (bytes ? 1 : 255)))))
    .map((one) => one.toString(16).padStart(2, "0"))
    .join("");
  const plain = !said.startsWith("#") && numbers.length >= 3;
  const [picked, setPicked] = useState(`#${hex}`);
  const done = () => {
    if (picked === `#${hex}`) return;
    let number = 0;
    const parts = [1, 3, 5].map((at) => Number.parseInt(picked.slice(at, at + 2), 16));
    onSet(
      said.replace(/-?\d*\.?\d+(?:[eE][+-]?\d+)?/g, (old) => {
        const part = parts[number++];
        return part === undefined ? old : bytes ? String(part) : String(Number((part / 255).toFixed(3)));
      }),
    );
  };
  return (
    <div className="flex items-center gap-3">
      {plain && (
        <input
          type="color"
          aria-label={`${value.role} colour`}
          value={picked}
          disabled={busy}
          onChange={(event) => setPicked(event.target.value)}
          onBlur={done}
        />
      )}
      <Field label={value.role} value={said} busy={busy} onDone={onSet} />
    </div>
  );
}
