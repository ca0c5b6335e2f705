import { useEffect, useRef } from "react";
import type { Schemas } from "../../api/client";
import { useTheme } from "../../app/look";
import { offsetOf } from "./numbers";

export const KINDS = {
  field: "header fields",
  records: "records",
  names: "names",
  members: "members",
  padding: "padding",
  found: "found by its sign",
  unknown: "nothing explains it",
} as const;

const HEIGHT = 44;

/** A whole file at a glance: above how random its bytes look, below what they are. A click goes there. */
export function FileMap({
  map,
  offset,
  shown,
  onGo,
}: {
  map: Schemas["FileMap"];
  offset: number;
  shown: number;
  onGo: (offset: number) => void;
}) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const theme = useTheme();
  // biome-ignore lint/correctness/useExhaustiveDependencies: another theme has other colours
  useEffect(() => {
    const element = canvas.current;
    const pen = element?.getContext("2d");
    if (!element || !pen) return;
    const width = element.clientWidth * devicePixelRatio;
    element.width = width;
    element.height = HEIGHT * devicePixelRatio;
    const style = getComputedStyle(element);
    const scale = width / Math.max(map.size, 1);
    const half = element.height * 0.42;
    pen.fillStyle = style.getPropertyValue("--quiet");
    map.entropy.forEach((bits, cell) => {
      const tall = (bits / 8) * half;
      pen.fillRect((cell * width) / map.entropy.length, half - tall, width / map.entropy.length, tall);
    });
    for (const span of map.spans) {
      pen.fillStyle = style.getPropertyValue(`--kind-${span.kind}`);
      pen.fillRect(span.start * scale, half + 3, Math.max((span.end - span.start) * scale, 0.6), half);
    }
  }, [map, theme]);
  const at = (offset / Math.max(map.size, 1)) * 100;
  return (
    <div className="relative shrink-0" style={{ height: HEIGHT }}>
      <canvas ref={canvas} aria-hidden className="absolute inset-0 size-full rounded-md bg-sunk" />
      <div
        aria-hidden
        className="pointer-events-none absolute inset-y-0 border-2 border-heather"
        style={{ left: `${at}%`, width: `max(5px, ${(shown / Math.max(map.size, 1)) * 100}%)` }}
      />
      <input
        type="range"
        aria-label="Place in the file"
        aria-valuetext={offsetOf(offset)}
        className="absolute inset-0 size-full cursor-pointer opacity-0"
        min={0}
        max={Math.max(map.size - 1, 0)}
        step={16}
        value={offset}
        onChange={(event) => onGo(Number(event.target.value) & ~15)}
      />
    </div>
  );
}

export function Legend() {
  return (
    <ul
      className="flex shrink-0 flex-wrap gap-x-4 gap-y-1 text-[13px] text-quiet"
      aria-label="What the colours mean"
    >
      {Object.entries(KINDS).map(([kind, words]) => (
        <li key={kind} className="flex items-center gap-1.5">
          <span aria-hidden className="size-3 rounded-sm" style={{ background: `var(--kind-${kind})` }} />
          {words}
        </li>
      ))}
    </ul>
  );
}
