/** The panes of a comparison and what lies in them. */
import { type ReactNode, useEffect, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { ANYWHERE } from "../../lib/keys";
import type { Spot } from "../face";
import { LARGE, type Size, tiles, type View } from "./viewport";

const BLINK = 700;

/** One picture with its name, to be moved and zoomed. */
export function Pane({ label, children }: { label: string; children: ReactNode }) {
  return (
    <figure
      data-pane={label.startsWith("edit") ? "edit" : "original"}
      className="ground relative min-w-0 flex-1 cursor-grab touch-none overflow-hidden rounded-xl active:cursor-grabbing"
    >
      {children}
      <figcaption className="pointer-events-none absolute top-2 left-2 rounded bg-raised/90 px-2 text-[13.5px]">
        {label}
      </figcaption>
    </figure>
  );
}

type Shown = {
  src: string;
  alt: string;
  size: Size;
  view: View;
  spot?: Spot | null;
  level: number;
  pane: Size;
  smooth: boolean;
};

/** A picture at a place, of large ones only the tiles in sight. */
export function Picture({ src, alt, size, view, spot, level, pane, smooth }: Shown) {
  const large = Math.max(size.width, size.height) >> level > LARGE;
  const look = `absolute max-w-none select-none ${view.zoom >= 1 && !smooth ? "pixelated" : ""}`;
  return (
    <>
      <img
        src={large ? `${src}&fit=512` : src}
        alt={alt}
        draggable={false}
        className={look}
        style={{ left: view.x, top: view.y, width: size.width * view.zoom, height: size.height * view.zoom }}
      />
      {large &&
        tiles(size, level, view, pane).map(({ query, ...place }) => (
          <img
            key={query}
            src={`${src}&tile=${query}`}
            alt=""
            draggable={false}
            className={`${look} ground`}
            style={place}
          />
        ))}
      {spot && (
        <div
          aria-hidden
          className="pointer-events-none absolute outline-2 outline-offset-1 outline-gorse"
          style={{
            left: view.x + spot.x * view.zoom,
            top: view.y + spot.y * view.zoom,
            width: spot.side * view.zoom,
            height: spot.side * view.zoom,
          }}
        />
      )}
    </>
  );
}

/** One after the other at the same place; stands still for those who asked for less motion. */
export function Blink({ original, edit }: { original: ReactNode; edit: ReactNode }) {
  const still = window.matchMedia("(prefers-reduced-motion: reduce)").matches;
  const [second, setSecond] = useState(false);
  const [held, setHeld] = useState(still);
  const step = () => {
    setHeld(true);
    setSecond((now) => !now);
  };
  useHotkeys("space", step, { ...ANYWHERE, preventDefault: true });
  useEffect(() => {
    if (held) return;
    const timer = setInterval(() => setSecond((now) => !now), BLINK);
    return () => clearInterval(timer);
  }, [held]);
  return (
    <Pane label={`${second ? "edit" : "original"} (Space steps)`}>
      <div className={second ? "invisible" : ""}>{original}</div>
      <div className={second ? "" : "invisible"}>{edit}</div>
    </Pane>
  );
}
