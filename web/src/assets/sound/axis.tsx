/** A time axis on which sounds and words lie: it is zoomed, down to single samples, and scrolled. */
import { useQuery } from "@tanstack/react-query";
import { Minus, Plus } from "lucide-react";
import { type ReactNode, useCallback, useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import { client, type Schemas, take } from "../../api/client";
import { Button } from "../../components/controls";

export type Outline = Omit<Schemas["Outline"], "loops" | "silence"> & {
  loops: number[][];
  silence: number[];
};
/** Screen pixels that one sample has at most. */
const WIDEST = 12;
const STEP = 1.6;

export type Axis = {
  box: React.RefObject<HTMLDivElement | null>;
  /** seconds of the whole, and the ones that are seen */
  longest: number;
  from: number;
  to: number;
  /** pixels of the room, and of the whole axis */
  width: number;
  whole: number;
  zoom: number;
  /** Around a place of the room, or with a second in its middle. */
  zoomBy: (factor: number, around?: number, middle?: number) => void;
  all: () => void;
  /** the second at a place of the screen */
  at: (clientX: number) => number;
  onScroll: () => void;
};

export function useAxis(longest: number, rate: number): Axis {
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(800);
  const [zoom, setZoom] = useState(1);
  const [left, setLeft] = useState(0);
  const keep = useRef<{ seconds: number; place: number } | null>(null);
  const whole = Math.max(width * zoom, 1);
  const most = Math.max((longest * rate * WIDEST) / width, 1);
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const measure = () => setWidth(Math.max(element.clientWidth, 100));
    measure();
    const observer = new ResizeObserver(measure);
    observer.observe(element);
    return () => observer.disconnect();
  }, []);
  const zoomBy = useCallback(
    (factor: number, around?: number, middle?: number) => {
      const element = box.current;
      if (!element) return;
      const place = around ?? element.clientWidth / 2;
      const seconds = middle ?? ((element.scrollLeft + place) / element.scrollWidth) * longest;
      keep.current = { seconds, place };
      setZoom((now) => Math.min(Math.max(now * factor, 1), most));
    },
    [longest, most],
  );
  // The point under the pointer stays where it is.
  useLayoutEffect(() => {
    const element = box.current;
    const point = keep.current;
    if (!element || !point) return;
    keep.current = null;
    element.scrollLeft = (point.seconds / longest) * whole - point.place;
    setLeft(element.scrollLeft);
  }, [longest, whole]);
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const onWheel = (event: WheelEvent) => {
      if (event.shiftKey || Math.abs(event.deltaX) > Math.abs(event.deltaY)) return;
      if (!event.ctrlKey && !event.metaKey && !event.altKey) return;
      event.preventDefault();
      zoomBy(event.deltaY < 0 ? STEP : 1 / STEP, event.clientX - element.getBoundingClientRect().left);
    };
    element.addEventListener("wheel", onWheel, { passive: false });
    return () => element.removeEventListener("wheel", onWheel);
  }, [zoomBy]);
  return {
    box,
    longest,
    width,
    whole,
    zoom,
    from: (left / whole) * longest,
    to: Math.min(((left + width) / whole) * longest, longest),
    zoomBy,
    all: () => {
      setZoom(1);
      setLeft(0);
    },
    at: (clientX) => {
      const element = box.current;
      if (!element) return 0;
      const place = clientX - element.getBoundingClientRect().left + element.scrollLeft;
      return Math.min(Math.max((place / element.scrollWidth) * longest, 0), longest);
    },
    onScroll: () => setLeft(box.current?.scrollLeft ?? 0),
  };
}

/** What lies on the axis; it scrolls where it is wider than the room. */
export function OnAxis({ axis, children, onPoint }: { axis: Axis; children: ReactNode; onPoint?: Point }) {
  return (
    <div
      ref={axis.box}
      className="overflow-x-auto overflow-y-hidden"
      onScroll={axis.onScroll}
      onPointerMove={(event) => onPoint?.(axis.at(event.clientX))}
      onPointerLeave={() => onPoint?.(null)}
    >
      <div className="grid gap-1.5" style={{ width: axis.zoom === 1 ? "100%" : axis.whole }}>
        {children}
      </div>
    </div>
  );
}
type Point = (seconds: number | null) => void;

/** ``middle``: the second that comes into the middle; without it what is there stays there. */
export function ZoomButtons({ axis, middle }: { axis: Axis; middle?: number | undefined }) {
  return (
    <div className="flex items-center gap-1" title="Zoom also with Ctrl and the wheel">
      <Button
        aria-label="Zoom out"
        disabled={axis.zoom <= 1}
        onClick={() => axis.zoomBy(1 / STEP, undefined, middle)}
      >
        <Minus aria-hidden className="size-4" />
      </Button>
      <Button aria-label="Zoom in" onClick={() => axis.zoomBy(STEP, undefined, middle)}>
        <Plus aria-hidden className="size-4" />
      </Button>
      <Button disabled={axis.zoom <= 1} onClick={axis.all}>
        All of it
      </Button>
    </div>
  );
}

/** The outlines of an item's original and edit over what is seen of an axis, somewhat more at each side. */
export function useEnvelope(
  project: string,
  address: string | undefined,
  revision: string,
  axis: Axis,
  apart = false,
) {
  // By steps of half of what is seen, so that scrolling asks once a step and not once a pixel.
  const half = Math.max((axis.to - axis.from) / 2, 1e-4);
  const first = Math.floor(axis.from / half) - 1;
  const [start, stop] =
    axis.zoom === 1
      ? [0, 0]
      : [Math.max(first * half, 0), Math.min((first + 5) * half, Math.max(axis.longest, 0.01))];
  const steps = axis.zoom === 1 ? 900 : 1800;
  return useQuery({
    queryKey: ["envelope", project, address, revision, apart, start.toFixed(4), stop.toFixed(4)],
    enabled: address !== undefined,
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/sound/envelope", {
          params: {
            path: { project_id: project },
            query: { address: address ?? "", steps, start, stop, apart },
          },
        }),
      ),
    placeholderData: (before) => before,
  });
}

const HEIGHT = 100;

/** A waveform; of single samples it is a line through them. */
export function Waveform({
  outline,
  axis,
  at,
  label,
  spectrum = null,
  className = "h-40",
  onSeek,
}: {
  outline: Outline;
  axis: Axis;
  at: number;
  label: string;
  /** the picture of its frequencies, in the place of its waveform */
  spectrum?: string | null;
  className?: string;
  onSeek: (seconds: number) => void;
}) {
  const { longest } = axis;
  // In thousandths of the seconds that are seen, so that numbers stay short however far it is zoomed.
  const [from, span] = [axis.from, Math.max(axis.to - axis.from, 1e-6)];
  const x = (seconds: number) => ((seconds - from) / span) * 1000;
  const single = outline.step * outline.rate < 1.5;
  // Not with every step of what is played.
  const path = useMemo(() => {
    const tall = HEIGHT / outline.bands.length;
    const drawn = outline.bands.map(({ low, high }, band) => {
      const point = (step: number, value: number, below = 0) => {
        const across = ((outline.first + (step + 0.5) * outline.step - from) / span) * 1000;
        return `${across.toFixed(2)} ${(band * tall + (tall / 2) * (1 - value) + below).toFixed(2)}`;
      };
      const top = high.map((value, step) => point(step, value));
      if (single) return `M${top.join("L")}`;
      const bottom = low.map((value, step) => point(step, value, 0.6));
      return `M${[...top, ...bottom.reverse()].join("L")}Z`;
    });
    return drawn.join("");
  }, [outline, from, span, single]);
  const lines = { y1: 0, y2: HEIGHT, vectorEffect: "non-scaling-stroke" } as const;
  return (
    <div className="ground relative rounded-xl">
      {spectrum && (
        <img
          alt=""
          className="absolute inset-y-0 left-0 h-full rounded-xl"
          style={{ width: "100%" }}
          src={spectrum}
        />
      )}
      <svg
        viewBox={`0 0 1000 ${HEIGHT}`}
        preserveAspectRatio="none"
        className={`sticky left-0 block cursor-text ${className}`}
        style={{ width: axis.width }}
        role="img"
        aria-label={label}
        onPointerDown={(event) => onSeek(axis.at(event.clientX))}
      >
        {outline.loops.map(([start = 0, end = 0]) => (
          <rect
            key={`${start} ${end}`}
            x={x(start)}
            width={Math.max(x(end) - x(start), 1)}
            y={0}
            height={HEIGHT}
            className="fill-gorse/35"
          />
        ))}
        {outline.cues.map((seconds) => (
          <line
            key={seconds}
            x1={x(seconds)}
            x2={x(seconds)}
            {...lines}
            className="stroke-heather"
            strokeWidth={1.5}
            strokeDasharray="5 4"
          />
        ))}
        {!spectrum &&
          outline.bands.slice(1).map((_, band) => (
            <line
              // biome-ignore lint/suspicious/noArrayIndexKey: channels have no other names
              key={band}
              x1={0}
              x2={1000}
              y1={((band + 1) * HEIGHT) / outline.bands.length}
              y2={((band + 1) * HEIGHT) / outline.bands.length}
              vectorEffect="non-scaling-stroke"
              className="stroke-[#161616]/40"
            />
          ))}
        {!spectrum && (
          <path
            d={path}
            className={single ? "fill-none stroke-[#161616]" : "fill-[#161616]"}
            strokeWidth={1.5}
            vectorEffect="non-scaling-stroke"
          />
        )}
        {at <= longest && <line x1={x(at)} x2={x(at)} {...lines} className="stroke-gorse" strokeWidth={2} />}
      </svg>
      {!spectrum && outline.bands.length > 1 && (
        <ol
          aria-label="Channels"
          className="pointer-events-none absolute inset-y-0 left-0 grid text-[12px] text-[#161616]"
        >
          {outline.bands.map((_, band) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: channels have no other names
            <li key={band} className="px-1.5">
              {channelName(band, outline.bands.length)}
            </li>
          ))}
        </ol>
      )}
    </div>
  );
}

/** Two channels are left and right (RIFF, Multiple Channel Audio Data); more go by their number. */
function channelName(band: number, count: number): string {
  return count === 2 ? (band ? "right" : "left") : `${band + 1}`;
}

/** A time, to the sample, as long as something points at it. */
export function Pointed({ seconds, rate }: { seconds: number | null; rate: number }) {
  if (seconds === null) return null;
  return (
    <span className="text-[14px] text-quiet tabular-nums">
      {seconds.toFixed(4)} s · sample {Math.floor(seconds * rate).toLocaleString("en")}
    </span>
  );
}
