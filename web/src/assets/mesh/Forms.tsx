/** The parts of a model: lit under the pointer, their coordinates turned over, an outline, and where a texture lies. */
import { useEffect, useState } from "react";
import { client, type Edit, previewUrl, take } from "../../api/client";
import { useAct } from "../../api/queries";
import { Button, Choice, Tick } from "../../components/controls";
import { baseName, many } from "../../lib/format";
import { useParts } from "./Compare";
import { light, useLit } from "./lit";
import { useDresses } from "./useDresses";

export default function Forms({ project, edit }: { project: string; edit: Edit }) {
  const { data } = useParts(project, edit.address, edit.revision);
  const [ticked, setTicked] = useState<string[]>([]);
  const [spot, setSpot] = useState<Spot | null>(null);
  const lit = useLit();
  useEffect(() => () => light(null, "list"), []);
  const at = { path: { project_id: project } };
  const turn = useAct((how: "mirror" | "flip") =>
    take(
      client.PUT("/api/projects/{project_id}/mesh/coordinates", {
        params: { ...at, query: { address: edit.address, materials: ticked, how } },
      }),
    ),
  );
  if (!data) return null;
  const parts = data.edit;
  const nameOf = (material: string, number: number) => material || `part ${number}`;
  return (
    <>
      <section aria-label="Parts" className="grid gap-2">
        <h2 className="font-bold">Parts</h2>
        <ul className="grid">
          {parts.map((part, number) => {
            const name = nameOf(part.material, number);
            return (
              <li
                key={name}
                onPointerEnter={() => light(name, "list")}
                onPointerLeave={() => light(null, "list")}
                className={`flex items-center gap-3 rounded px-2 py-1 ${lit.part === name ? "bg-heather-soft" : ""}`}
              >
                <Tick
                  title={part.material_item ?? part.texture_item ?? name}
                  checked={ticked.includes(name)}
                  onChange={(on) =>
                    setTicked((now) => (on ? [...now, name] : now.filter((one) => one !== name)))
                  }
                >
                  <span className="text-ink">{name}</span>
                </Tick>
                <span className="flex-1" />
                <span className="text-[14px] text-quiet">{many(part.triangles, "triangle")}</span>
              </li>
            );
          })}
        </ul>
        {data.coordinates && (
          <div className="flex flex-wrap items-center gap-2">
            <Button disabled={ticked.length === 0 || turn.isPending} onClick={() => turn.mutate("mirror")}>
              Mirror coordinates
            </Button>
            <Button disabled={ticked.length === 0 || turn.isPending} onClick={() => turn.mutate("flip")}>
              Flip coordinates
            </Button>
            {ticked.length === 0 && (
              <span className="text-[14px] text-quiet">of the parts that are ticked</span>
            )}
          </div>
        )}
      </section>
      <Outline
        spot={spot}
        onSpot={setSpot}
        project={project}
        edit={edit}
        parts={parts.map((part, n) => nameOf(part.material, n))}
        radius={data.radius}
      />
      {data.coordinates && <Lies project={project} edit={edit} onSpot={setSpot} />}
    </>
  );
}

/** A place on a texture, 0 to 1 from its top left. */
type Spot = { u: number; v: number };

function Outline({
  spot,
  onSpot,
  project,
  edit,
  parts,
  radius,
}: {
  spot: Spot | null;
  onSpot: (spot: Spot | null) => void;
  project: string;
  edit: Edit;
  parts: string[];
  radius: number;
}) {
  const [width, setWidth] = useState(String(Number((radius * 0.015).toPrecision(2))));
  const [part, setPart] = useState(parts[0] ?? "");
  const make = useAct(() =>
    take(
      client.PUT("/api/projects/{project_id}/mesh/outline", {
        params: {
          path: { project_id: project },
          query: { address: edit.address, width: Number(width), material: part, ...(spot ?? {}) },
        },
      }),
    ),
  );
  return (
    <section aria-label="Outline" className="grid gap-2">
      <h2 className="font-bold">Outline</h2>
      <div className="flex flex-wrap items-center gap-2">
        <input
          aria-label="Width of the outline in metres"
          inputMode="decimal"
          className="w-20 rounded-lg border border-line bg-paper px-2 py-1.5"
          value={width}
          onChange={(event) => setWidth(event.target.value)}
        />
        <span className="text-quiet">m, in</span>
        <select
          aria-label="The part that the outline is joined to"
          className="min-w-0 flex-1 rounded-lg border border-line bg-paper px-2 py-1.5"
          value={part}
          onChange={(event) => setPart(event.target.value)}
        >
          {parts.map((one) => (
            <option key={one}>{one}</option>
          ))}
        </select>
        <Button disabled={!(Number(width) > 0) || make.isPending} onClick={() => make.mutate(undefined)}>
          Add it
        </Button>
      </div>
      <p className="text-[14px] text-quiet">
        {spot ? (
          <>
            In the colour at {spot.u.toFixed(2)}, {spot.v.toFixed(2)} of its texture.{" "}
            <Button look="quiet" onClick={() => onSpot(null)}>
              In all its colours
            </Button>
          </>
        ) : (
          "Of one colour: press on it in the texture below."
        )}
      </p>
    </section>
  );
}

/** The coordinates over the texture of a part, as it is edited now. */
function Lies({ project, edit, onSpot }: { project: string; edit: Edit; onSpot: (spot: Spot) => void }) {
  const { data } = useParts(project, edit.address, edit.revision);
  const dresses = useDresses(project, data?.edit);
  const painted = (dresses ?? []).filter((one) => one.texture !== null);
  const [chosen, setChosen] = useState<string | null>(null);
  const here = painted.find((one) => one.name === chosen) ?? painted[0];
  const lines = previewUrl(project, edit.address, {
    which: edit.position ? "edit" : "original",
    view: "lines",
    part: here ? (dresses ?? []).indexOf(here) : 0,
    revision: edit.revision,
  });
  if (!here?.texture) return null;
  return (
    <section aria-label="Where the texture lies" className="grid gap-2">
      <h2 className="font-bold">Where the texture lies</h2>
      {painted.length > 1 && (
        <Choice
          label="The part whose texture is shown"
          value={here.name}
          options={painted.slice(0, 5).map((one) => [one.name, baseName(one.name)] as const)}
          onChange={setChosen}
        />
      )}
      <button
        type="button"
        aria-label="Choose a colour for an outline"
        className="ground relative overflow-hidden rounded-xl"
        onClick={(event) => {
          const room = event.currentTarget.getBoundingClientRect();
          // By the keyboard it is the middle.
          const at = (place: number, from: number, size: number) =>
            event.detail ? Math.min(1, Math.max(0, (place - from) / size)) : 0.5;
          onSpot({
            u: at(event.clientX, room.left, room.width),
            v: at(event.clientY, room.top, room.height),
          });
        }}
      >
        <img alt={`The texture of ${here.name}`} src={here.texture} className="block w-full" />
        <img alt="The triangles over it" src={lines} className="absolute inset-0 size-full" />
      </button>
      <a href={lines} download="lines.svg" className="text-quiet underline underline-offset-4">
        Download the lines as SVG
      </a>
    </section>
  );
}
