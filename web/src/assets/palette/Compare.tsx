/** A palette's entries, each to be changed, and what is reserved among them. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, type Edit, type Schemas, take } from "../../api/client";
import { useAct } from "../../api/queries";
import { Button, Tick } from "../../components/controls";

type Entry = Schemas["EntryView"];
const ACROSS = 16;
/** times that a pixel of an edit counts, where it counts more */
const MORE = 4;

export const useEntries = (project: string, address: string, revision: string) =>
  useQuery({
    queryKey: ["entries", project, address, revision],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/palette/entries", {
          params: { path: { project_id: project }, query: { address } },
        }),
      ),
    placeholderData: (before) => before,
  });

export default function Compare({ project, edit }: { project: string; edit: Edit }) {
  const { data: entries } = useEntries(project, edit.address, edit.revision);
  const [chosen, setChosen] = useState(0);
  const act = useAct(({ index, colour }: { index: number; colour: string }) =>
    take(
      client.PUT("/api/projects/{project_id}/palette/colour", {
        params: { path: { project_id: project }, query: { address: edit.address, index, colour } },
      }),
    ),
  );
  if (!entries) return <div className="ground h-full rounded-xl" />;
  const entry = entries[chosen];
  const changed = entries.filter((one) => one.colour !== one.edit).length;
  return (
    <div className="flex h-full min-h-0 flex-col gap-3">
      <div className="flex flex-wrap items-center gap-3">
        <p className="min-w-0 flex-1 text-quiet">
          {entries.length} entries
          {changed ? `, ${changed} changed: the corner shows the original's colour` : ""}
        </p>
        <Shared project={project} edit={edit} />
      </div>
      <div className="ground min-h-0 flex-1 overflow-auto rounded-xl p-3">
        <fieldset
          aria-label="Entries"
          className="grid gap-1"
          style={{ gridTemplateColumns: `repeat(${ACROSS}, minmax(1.25rem, 2.75rem))` }}
        >
          {entries.map((one, index) => (
            <Swatch
              // biome-ignore lint/suspicious/noArrayIndexKey: entries are known by their numbers
              key={index}
              entry={one}
              index={index}
              on={index === chosen}
              onChoose={() => setChosen(index)}
            />
          ))}
        </fieldset>
      </div>
      {entry && (
        <Colour
          key={`${chosen} ${entry.edit}`}
          entry={entry}
          index={chosen}
          waiting={act.isPending}
          onChange={(colour) => act.mutate({ index: chosen, colour })}
        />
      )}
    </div>
  );
}

/** The best colours for all that is drawn with it: what is edited may count more. */
function Shared({ project, edit }: { project: string; edit: Edit }) {
  const [more, setMore] = useState(false);
  const act = useAct(() =>
    take(
      client.POST("/api/projects/{project_id}/edits/shared", {
        params: {
          path: { project_id: project },
          query: { address: edit.address, weight: more ? MORE : 1 },
        },
      }),
    ),
  );
  return (
    <>
      <Tick title="A pixel of what you edit counts four times" checked={more} onChange={setMore}>
        Edits count more
      </Tick>
      <Button
        disabled={act.isPending}
        title="Colours with which all pictures together lose least, your edits among them; all of them are re-mapped"
        onClick={() => act.mutate(undefined)}
      >
        Best for all its pictures
      </Button>
    </>
  );
}

function Swatch({
  entry,
  index,
  on,
  onChoose,
}: {
  entry: Entry;
  index: number;
  on: boolean;
  onChoose: () => void;
}) {
  const words = [
    `Entry ${index}: ${entry.edit}`,
    entry.colour !== entry.edit && `was ${entry.colour}`,
    entry.reserved && `reserved: ${entry.reserved}`,
  ].filter(Boolean);
  return (
    <button
      type="button"
      aria-label={words.join(", ")}
      title={words.join(", ")}
      aria-pressed={on}
      onClick={onChoose}
      className={`relative aspect-square overflow-hidden rounded ${on ? "outline-[3px] outline-offset-1 outline-gorse" : ""}`}
      style={{ background: entry.edit }}
    >
      {entry.colour !== entry.edit && (
        <span
          aria-hidden
          className="absolute top-0 right-0 size-1/2"
          style={{ background: entry.colour, clipPath: "polygon(0 0, 100% 0, 100% 100%)" }}
        />
      )}
      {entry.reserved && (
        <span
          aria-hidden
          className="absolute inset-0 grid place-items-center text-[13px] font-bold text-white [text-shadow:0_0_3px_#000]"
        >
          R
        </span>
      )}
    </button>
  );
}

/** The chosen entry: its colour by the system's own chooser, or as #rrggbb. */
function Colour({
  entry,
  index,
  waiting,
  onChange,
}: {
  entry: Entry;
  index: number;
  waiting: boolean;
  onChange: (colour: string) => void;
}) {
  const [colour, setColour] = useState(entry.edit);
  const valid = /^#[0-9a-f]{6}$/i.test(colour);
  return (
    <form
      className="flex flex-wrap items-center gap-3 rounded-xl bg-raised p-3"
      onSubmit={(event) => {
        event.preventDefault();
        if (valid) onChange(colour);
      }}
    >
      <b>Entry {index}</b>
      <input
        type="color"
        aria-label={`Colour of entry ${index}`}
        value={valid ? colour : entry.edit}
        onChange={({ target }) => setColour(target.value)}
        className="h-9 w-14 rounded bg-sunk p-1"
      />
      <input
        aria-label="As #rrggbb"
        value={colour}
        onChange={({ target }) => setColour(target.value)}
        className="w-28 rounded-lg bg-sunk px-2 py-1.5 font-mono"
      />
      <Button
        type="submit"
        look={valid && colour !== entry.edit ? "act" : "plain"}
        disabled={!valid || waiting || colour === entry.edit}
      >
        Use it
      </Button>
      {entry.colour !== entry.edit && (
        <Button look="quiet" onClick={() => onChange(entry.colour)}>
          Back to {entry.colour}
        </Button>
      )}
      {entry.reserved && <span className="text-quiet">Reserved: {entry.reserved}.</span>}
    </form>
  );
}
