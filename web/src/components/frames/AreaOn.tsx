/** An area drawn on a frame of the edit, and where it is found on the others. */
import { type PointerEvent, useState } from "react";
import type { Schemas } from "../../api/client";
import type { Frames } from "./Cell";

export type Area = { frame: number; x: number; y: number; width: number; height: number };
export type Found = Schemas["FollowedView"];

/** The frames with the drift of what is followed in place of their own. */
export function followedIn(frames: Frames, found: Found[]): Frames {
  return {
    ...frames,
    frames: frames.frames.map((one, number) => {
      const here = found.find((other) => other.frame === number);
      return { ...one, dx: here?.dx ?? null, dy: here?.dy ?? null, jumps: here?.jumps ?? false };
    }),
  };
}

export function AreaOn({
  frames,
  frame,
  zoom,
  here,
  chosen,
  onArea,
}: {
  frames: Frames;
  frame: number;
  zoom: number;
  here: Found | undefined;
  chosen: Area | null;
  onArea: (area: Area) => void;
}) {
  const [drawn, setDrawn] = useState<{ from: [number, number]; to: [number, number] } | null>(null);
  const at = (event: PointerEvent): [number, number] => {
    const box = event.currentTarget.getBoundingClientRect();
    const within = (value: number, most: number) => Math.min(Math.max(Math.floor(value / zoom), 0), most - 1);
    return [within(event.clientX - box.left, frames.width), within(event.clientY - box.top, frames.height)];
  };
  const boxed = drawn && {
    x: Math.min(drawn.from[0], drawn.to[0]),
    y: Math.min(drawn.from[1], drawn.to[1]),
    width: Math.abs(drawn.from[0] - drawn.to[0]) + 1,
    height: Math.abs(drawn.from[1] - drawn.to[1]) + 1,
  };
  const seen = boxed ?? (here && chosen ? { ...chosen, x: here.x, y: here.y } : null);
  return (
    <div
      className="absolute inset-0 cursor-crosshair touch-none"
      role="application"
      aria-label="Draw the area to follow"
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        setDrawn({ from: at(event), to: at(event) });
      }}
      onPointerMove={(event) => {
        if (drawn) setDrawn({ ...drawn, to: at(event) });
      }}
      onPointerUp={() => {
        if (boxed && boxed.width > 1 && boxed.height > 1) onArea({ frame, ...boxed });
        setDrawn(null);
      }}
    >
      {seen && (
        <span
          aria-hidden
          className="absolute border-2 border-gorse shadow-[0_0_0_1px_#0008]"
          style={{
            left: seen.x * zoom,
            top: seen.y * zoom,
            width: seen.width * zoom,
            height: seen.height * zoom,
          }}
        />
      )}
    </div>
  );
}
