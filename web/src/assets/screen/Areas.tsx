/** A screen's rectangles over its picture: moved, resized, drawn, copied, taken away, by mouse and by keyboard. */
import { useQuery } from "@tanstack/react-query";
import { CopyPlus, SquareDashedMousePointer, Trash2 } from "lucide-react";
import { type KeyboardEvent, useState } from "react";
import { client, type Edit, previewUrl, take } from "../../api/client";
import { useTakeBeside } from "../../api/queries";
import { Button, Tick } from "../../components/controls";
import { useInTurn } from "../../lib/useInTurn";
import { type Area, type Areas, aligned, dragged, type Edge, type Grip } from "./areas";
import { Numbers, PANEL } from "./Numbers";
import { Stage } from "./Stage";

export const useAreas = (project: string, edit: Pick<Edit, "address" | "revision">) =>
  useQuery({
    queryKey: ["areas", project, edit.address, edit.revision],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/screen/areas", {
          params: { path: { project_id: project }, query: { address: edit.address } },
        }),
      ),
    placeholderData: (before) => before,
  });

const EDGES: [Edge, string][] = [
  ["left", "left edges"],
  ["right", "right edges"],
  ["top", "top edges"],
  ["bottom", "bottom edges"],
];
/** Steps by the keyboard come in a row: they are one version. */
const TOGETHER = 600;

export function AreasEditor({ project, edit, screen }: { project: string; edit: Edit; screen: Areas }) {
  const [chosen, setChosen] = useState<number[]>([]);
  const [drawing, setDrawing] = useState(false);
  const [contents, setContents] = useState(true);
  const act = useTakeBeside(project);
  const [areas, save, setAreas] = useInTurn(screen.edit, (next) => {
    const file = new File([JSON.stringify({ areas: next })], "areas.json", { type: "application/json" });
    return act.mutateAsync({ address: edit.address, part: "areas", file });
  });
  const first = areas[chosen[0] ?? -1];
  const change = (make: (area: Area) => Area, wait = 0) =>
    save(
      areas.map((area, number) => (chosen.includes(number) ? make(area) : area)),
      wait,
    );
  const copy = () => {
    if (!first || !screen.can_grow) return;
    const step = Math.max(screen.grid, 4);
    save([...areas, dragged(first, { x: 0, y: 0 }, step, step, screen)]);
    setChosen([areas.length]);
  };
  const remove = () => {
    if (!screen.can_grow) return;
    save(areas.filter((_, number) => !chosen.includes(number)));
    setChosen([]);
  };
  const onKey = (event: KeyboardEvent) => {
    const step = screen.grid * (event.shiftKey ? 8 : 1);
    const moves: Record<string, [number, number]> = {
      ArrowLeft: [-step, 0],
      ArrowRight: [step, 0],
      ArrowUp: [0, -step],
      ArrowDown: [0, step],
    };
    const move = moves[event.key];
    if (move && chosen.length) {
      const grip: Grip = event.altKey ? { x: 1, y: 1 } : { x: 0, y: 0 };
      change((area) => dragged(area, grip, move[0], move[1], screen), TOGETHER);
    } else if (event.key === "Delete") remove();
    else if (event.key === "Escape") {
      setChosen([]);
      setDrawing(false);
    } else return;
    event.preventDefault();
  };
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: the keys are for the rectangles in it, which have the focus
    <div className="flex h-full min-h-0 flex-col gap-2" onKeyDown={onKey}>
      <div className="flex flex-wrap items-center gap-2">
        <Button
          aria-pressed={drawing}
          disabled={!screen.can_grow}
          className={drawing ? "outline-[3px] outline-heather" : ""}
          title="Drag over the picture where the new one is to be"
          onClick={() => setDrawing(!drawing)}
        >
          <SquareDashedMousePointer aria-hidden className="size-4" /> Draw one
        </Button>
        <Button disabled={!first || !screen.can_grow} title="One more like the chosen one" onClick={copy}>
          <CopyPlus aria-hidden className="size-4" /> Copy
        </Button>
        <Button
          disabled={!first || !screen.can_grow}
          title="Take the chosen ones away (Delete)"
          onClick={remove}
        >
          <Trash2 aria-hidden className="size-4" /> Take away
        </Button>
        <select
          aria-label="Align the chosen ones with the first"
          disabled={chosen.length < 2}
          value=""
          onChange={({ target }) => save(aligned(areas, chosen, target.value as Edge))}
          className="rounded-lg bg-sunk px-2 py-1.5 disabled:opacity-55"
        >
          <option value="">Align …</option>
          {EDGES.map(([edge, words]) => (
            <option key={edge} value={edge}>
              {words}
            </option>
          ))}
        </select>
        {(screen.labelled || screen.roles.some(({ id }) => id === "shows")) && (
          <Tick title="What the game draws in them" checked={contents} onChange={setContents}>
            Contents
          </Tick>
        )}
        <span className="text-[14px] text-quiet">
          {areas.length} rectangles on {screen.width} × {screen.height}
          {screen.grid > 1 ? `, grid of ${screen.grid}` : ""}
        </span>
      </div>
      <Stage
        src={previewUrl(project, edit.address, {
          which: edit.position ? "edit" : "original",
          channels: "rgb",
          revision: edit.revision,
        })}
        screen={screen}
        areas={areas}
        chosen={chosen}
        drawing={drawing}
        contents={contents}
        onChoose={setChosen}
        onShow={setAreas}
        onDone={save}
        onDrawn={(area) => {
          setDrawing(false);
          save([...areas, area]);
          setChosen([areas.length]);
        }}
      />
      {first ? (
        <Numbers
          key={chosen[0]}
          project={project}
          address={edit.address}
          screen={screen}
          area={first}
          title={chosen.length > 1 ? `${chosen.length} chosen; the first` : `Rectangle ${chosen[0]}`}
          onChange={(next) => save(areas.map((area, number) => (number === chosen[0] ? next : area)))}
        />
      ) : (
        <p className={`${PANEL} text-[14px] text-quiet`}>
          Choose a rectangle: drag it, or its corners; arrow keys move it (with Shift in steps of eight, with
          Alt they resize it). Shift and a press choose several.
        </p>
      )}
    </div>
  );
}
