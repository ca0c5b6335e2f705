/** One frame, cut out of a picture that holds all of them in cells of one size. */
import type { Schemas } from "../../api/client";

export type Frames = Schemas["FramesView"];

/** A frame at a whole zoom, so that every pixel stays square; `faint` for what is only seen through. */
export function Cell({
  frames,
  frame,
  src,
  zoom,
  faint = false,
}: {
  frames: Frames;
  frame: number;
  src: string;
  zoom: number;
  faint?: boolean;
}) {
  const x = (frame % frames.columns) * frames.width * zoom;
  const y = Math.floor(frame / frames.columns) * frames.height * zoom;
  return (
    <div
      aria-hidden
      className={`pixelated shrink-0 bg-no-repeat ${faint ? "absolute inset-0 opacity-25" : ""}`}
      style={{
        width: frames.width * zoom,
        height: frames.height * zoom,
        backgroundImage: `url("${src}")`,
        backgroundPosition: `${-x}px ${-y}px`,
        backgroundSize: `${frames.sheet_width * zoom}px ${frames.sheet_height * zoom}px`,
      }}
    />
  );
}

/** The largest whole zoom (or a half, a third ... for large frames) at which a frame fits. */
export function zoomFor(frames: Frames, width: number, height: number): number {
  const room = Math.min(width / frames.width, height / frames.height);
  return room >= 1 ? Math.min(12, Math.floor(room)) : 1 / Math.ceil(1 / Math.max(room, 0.05));
}
