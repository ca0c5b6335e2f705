/** The picture of a screen with its rectangles, to be dragged. */
import { type PointerEvent, useLayoutEffect, useRef, useState } from "react";
import { type Area, type Areas, dragged, drawn, type Grip, targetOf, wordsOf } from "./areas";

const CORNERS: Grip[] = [
  { x: -1, y: -1 },
  { x: 1, y: -1 },
  { x: -1, y: 1 },
  { x: 1, y: 1 },
];

/** Pixels within which a pointer that is pressed has not been dragged. */
const A_PRESS = 3;
type Drag = { x: number; y: number; zoom: number; moved: boolean; grip: Grip; before: Area[] };

type StageProps = {
  src: string;
  screen: Areas;
  areas: Area[];
  chosen: number[];
  drawing: boolean;
  /** whether what the game draws in them is shown */
  contents: boolean;
  onChoose: (chosen: number[]) => void;
  /** while it is dragged */
  onShow: (areas: Area[]) => void;
  /** when it is let go */
  onDone: (areas: Area[]) => void;
  onDrawn: (area: Area) => void;
};

export function Stage({
  src,
  screen,
  areas,
  chosen,
  drawing,
  contents,
  onChoose,
  onShow,
  onDone,
  onDrawn,
}: StageProps) {
  const box = useRef<HTMLDivElement>(null);
  const canvas = useRef<SVGSVGElement>(null);
  const [room, setRoom] = useState({ width: 600, height: 400 });
  const [born, setBorn] = useState<Area | null>(null);
  const drag = useRef<Drag | null>(null);
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const measure = () => setRoom({ width: element.clientWidth - 24, height: element.clientHeight - 24 });
    measure();
    const observer = new ResizeObserver(measure);
    observer.observe(element);
    return () => observer.disconnect();
  }, []);
  const fits = Math.min(room.width / screen.width, room.height / screen.height);
  const zoom = fits >= 1 ? Math.floor(fits) : fits;
  const place = (event: PointerEvent) => {
    const shown = canvas.current?.getBoundingClientRect() ?? new DOMRect();
    return { x: (event.clientX - shown.left) / zoom, y: (event.clientY - shown.top) / zoom };
  };
  const grab = (event: PointerEvent, grip: Grip, number: number) => {
    if (drawing) return;
    event.stopPropagation();
    const now = event.shiftKey
      ? [...new Set([...chosen, number])]
      : chosen.includes(number)
        ? chosen
        : [number];
    onChoose(now);
    (event.currentTarget as Element).setPointerCapture(event.pointerId);
    drag.current = { x: event.clientX, y: event.clientY, zoom, moved: false, grip, before: areas };
  };
  // By how far the pointer went, not by where it is over the picture: that may lie elsewhere by now.
  const moved = (event: PointerEvent, number: number) => {
    const from = drag.current;
    if (!from) return null;
    const [x, y] = [event.clientX - from.x, event.clientY - from.y];
    from.moved ||= Math.hypot(x, y) >= A_PRESS;
    if (!from.moved) return null;
    const moving = from.grip.x === 0 && chosen.includes(number) ? chosen : [number];
    return from.before.map((area, other) =>
      moving.includes(other) ? dragged(area, from.grip, x / from.zoom, y / from.zoom, screen) : area,
    );
  };
  const handlers = (number: number, grip: Grip) => ({
    onPointerDown: (event: PointerEvent) => grab(event, grip, number),
    onPointerMove: (event: PointerEvent) => {
      const next = moved(event, number);
      if (next) onShow(next);
    },
    onPointerUp: (event: PointerEvent) => {
      const next = moved(event, number);
      drag.current = null;
      if (next) onDone(next);
    },
  });
  return (
    <div
      ref={box}
      className="ground relative grid min-h-40 flex-1 place-items-center overflow-hidden rounded-xl"
    >
      <div className="relative" style={{ width: screen.width * zoom, height: screen.height * zoom }}>
        <img alt="The screen" src={src} draggable={false} className="pixelated absolute inset-0 size-full" />
        <svg
          ref={canvas}
          viewBox={`0 0 ${screen.width} ${screen.height}`}
          className={`absolute inset-0 size-full touch-none ${drawing ? "cursor-crosshair" : ""}`}
          onPointerDown={(event) => {
            if (!drawing) return onChoose([]);
            event.currentTarget.setPointerCapture(event.pointerId);
            const at = place(event);
            drag.current = { ...at, zoom, moved: true, grip: { x: 0, y: 0 }, before: areas };
            setBorn(drawn(at.x, at.y, at.x, at.y, screen));
          }}
          onPointerMove={(event) => {
            const from = drag.current;
            if (!born || !from) return;
            const at = place(event);
            setBorn(drawn(from.x, from.y, at.x, at.y, screen));
          }}
          onPointerUp={() => {
            drag.current = null;
            if (born && born.width >= screen.least && born.height >= screen.least) onDrawn(born);
            setBorn(null);
          }}
        >
          <title>The rectangles of the screen</title>
          {contents &&
            areas.map((area, number) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: rectangles are known by their numbers
              <Content key={number} area={area} screen={screen} />
            ))}
          {areas.map((area, number) => (
            <Rectangle
              // biome-ignore lint/suspicious/noArrayIndexKey: rectangles are known by their numbers
              key={number}
              area={area}
              number={number}
              words={wordsOf(area, screen)}
              zoom={zoom}
              on={chosen.includes(number)}
              lost={screen.lost.includes(targetOf(area, screen) ?? -1)}
              handlers={handlers}
              onFocus={() => chosen.includes(number) || drag.current || onChoose([number])}
            />
          ))}
          {born && (
            <rect
              {...sidesOf(born)}
              className="fill-gorse/30 stroke-gorse"
              vectorEffect="non-scaling-stroke"
            />
          )}
        </svg>
      </div>
    </div>
  );
}

/** What the game draws in a rectangle: its label, or something that stands for what it shows. */
function Content({ area, screen }: { area: Area; screen: Areas }) {
  const { x, y, width, height } = area;
  const known = screen.roles.find(({ id }) => id === "shows")?.known ?? {};
  const shows = String(known[String(area.numbers?.shows ?? "")] ?? "").toLowerCase();
  const line = screen.line ?? Math.max(4, Math.min(10, height * 0.6));
  const lines = Math.max(0, Math.floor(height / (line * 1.4)));
  const rows = Array.from({ length: Math.min(lines, 40) }, (_, number) => y + line * (0.4 + 1.4 * number));
  return (
    <g aria-hidden pointerEvents="none" className="fill-[#161616] stroke-none">
      {/list|text|words|letter/.test(shows) &&
        rows.map((top, number) => (
          <rect
            key={top}
            x={x + 2}
            y={top}
            width={Math.max(0, (width - 4) * (/list/.test(shows) ? 0.8 : ([1, 0.94, 0.7][number % 3] ?? 1)))}
            height={line * 0.7}
            opacity={0.35}
          />
        ))}
      {/model|figure|picture|sprite|image|face/.test(shows) && (
        <path
          d={`M${x} ${y + height}L${x + width * 0.35} ${y + height * 0.4}L${x + width * 0.6} ${y + height * 0.75}L${x + width * 0.75} ${y + height * 0.6}L${x + width} ${y + height}Z`}
          opacity={0.35}
        />
      )}
      {(area.label ||
        (shows && !/list|text|words|letter|model|figure|picture|sprite|image|face/.test(shows))) && (
        <text
          x={x + width / 2}
          y={y + height / 2}
          textAnchor="middle"
          dominantBaseline="central"
          fontSize={line}
          opacity={0.85}
        >
          {area.label || shows}
        </text>
      )}
    </g>
  );
}

const sidesOf = ({ x, y, width, height }: Area) => ({ x, y, width, height });

function Rectangle({
  area,
  number,
  words,
  zoom,
  on,
  lost,
  handlers,
  onFocus,
}: {
  area: Area;
  number: number;
  words: string;
  zoom: number;
  on: boolean;
  lost: boolean;
  handlers: (number: number, grip: Grip) => object;
  onFocus: () => void;
}) {
  const size = 12 / zoom;
  return (
    // biome-ignore lint/a11y/useSemanticElements: there are no buttons in a drawing
    <g
      role="button"
      tabIndex={0}
      aria-label={`Rectangle ${number}: ${words}, at ${area.x}, ${area.y}, ${area.width} × ${area.height}`}
      aria-pressed={on}
      onFocus={onFocus}
      // Its border is thick when it has the focus; an outline here would be as many times larger as the drawing.
      style={{ outline: "none" }}
    >
      <rect
        {...sidesOf(area)}
        {...handlers(number, { x: 0, y: 0 })}
        vectorEffect="non-scaling-stroke"
        strokeWidth={on ? 3 : 2}
        strokeDasharray={lost ? "6 4" : undefined}
        className={`cursor-move ${on ? "fill-gorse/25 stroke-gorse" : "fill-transparent stroke-heather hover:fill-heather/20"}`}
      />
      <text
        x={area.x + 3 / zoom}
        y={area.y + area.height - 4 / zoom}
        fontSize={13 / zoom}
        strokeWidth={3 / zoom}
        className="pointer-events-none fill-ink stroke-paper font-bold"
        style={{ paintOrder: "stroke" }}
      >
        {number}
        {words && ` ${words}`}
      </text>
      {on &&
        CORNERS.map((grip) => (
          <rect
            key={`${grip.x} ${grip.y}`}
            {...handlers(number, grip)}
            x={(grip.x < 0 ? area.x : area.x + area.width) - size / 2}
            y={(grip.y < 0 ? area.y : area.y + area.height) - size / 2}
            width={size}
            height={size}
            vectorEffect="non-scaling-stroke"
            className={`fill-paper stroke-gorse ${grip.x === grip.y ? "cursor-nwse-resize" : "cursor-nesw-resize"}`}
          />
        ))}
    </g>
  );
}
