/** A texture looked at as a sheet of frames: a grid is proposed, and can be said by hand. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, type Edit, previewUrl, take } from "../../api/client";
import { Button } from "../../components/controls";
import { Player } from "../../components/frames/Player";

/** Below this a grid is a guess that nobody should be asked about. */
const LIKELY = 0.6;
const FEW = 4;

export const useSheet = (project: string, edit: Edit, cell: string | undefined) =>
  useQuery({
    queryKey: ["sheet", project, edit.address, edit.revision, cell],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/texture/sheet", {
          params: { path: { project_id: project }, query: { address: edit.address, cell } },
        }),
      ),
    placeholderData: (before) => before,
    retry: false,
  });

/** Whether a texture is likely a sheet of frames. */
export function useIsSheet(project: string, edit: Edit): boolean {
  const best = useSheet(project, edit, undefined).data?.grids[0];
  return best !== undefined && best.fit >= LIKELY && best.count >= FEW;
}

const key = (project: string, address: string) => `frames ${project} ${address}`;

export function Frames({ project, edit }: { project: string; edit: Edit }) {
  const [cell, setCell] = useState(() => localStorage.getItem(key(project, edit.address)) ?? undefined);
  const { data, error } = useSheet(project, edit, cell);
  const now = data?.frames;
  const choose = (next: string) => {
    localStorage.setItem(key(project, edit.address), next);
    setCell(next);
  };
  return (
    <div className="flex h-full min-h-0 flex-col gap-2">
      <form
        className="flex flex-wrap items-center gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          const form = new FormData(event.currentTarget);
          choose(`${form.get("width")}x${form.get("height")}`);
        }}
      >
        <span className="text-quiet">Cells of</span>
        {(["width", "height"] as const).map((side) => (
          <input
            key={`${side} ${now?.[side]}`}
            name={side}
            aria-label={`${side === "width" ? "Width" : "Height"} of a cell`}
            type="number"
            min={1}
            defaultValue={now?.[side]}
            className="w-20 rounded-lg bg-sunk px-2 py-1 tabular-nums"
          />
        ))}
        <Button type="submit">Cut so</Button>
        {data?.grids.slice(0, 3).map((one) => (
          <Button
            key={one.cell}
            look="quiet"
            title={`${one.count} frames; fits by ${Math.round(one.fit * 100)} of 100`}
            onClick={() => choose(one.cell)}
          >
            {one.cell.replace("x", " × ")}
          </Button>
        ))}
        {error && <span className="text-bad text-[14px]">{error.message}</span>}
      </form>
      <div className="min-h-0 flex-1">
        {now && (
          <Player
            key={`${now.width} ${now.height}`}
            frames={now}
            src={(which) => previewUrl(project, edit.address, { which, revision: edit.revision })}
            sides={edit.position ? ["original", "edit"] : ["original"]}
            tall
          />
        )}
      </div>
    </div>
  );
}
