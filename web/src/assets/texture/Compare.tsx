/** Original and edit together: one zoom, one position, any mip level, any channel. */
import { Maximize2, ZoomIn, ZoomOut } from "lucide-react";
import { Slider } from "radix-ui";
import { type ReactNode, useEffect, useLayoutEffect, useRef, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { Button, Choice, Tick } from "../../components/controls";
import { Ground } from "../../components/Ground";
import { ANYWHERE, BY_KEY } from "../../lib/keys";
import type { Spot } from "../face";
import { Blink, Pane, Picture } from "./panes";
import { usePanZoom } from "./usePanZoom";
import { useValues, type Values } from "./useValues";
import { centred, fitting, type Size, zoomAt } from "./viewport";

export type Mode = "both" | "wipe" | "blink" | "difference" | "heat";
export type Channels = "rgba" | "rgb" | "r" | "g" | "b" | "a";
type Which = "original" | "edit" | "difference" | "heat";
type Url = (which: Which, level: number, channels: Channels, exposure: number) => string;

const MODES = [
  ["both", "Side by side"],
  ["wipe", "Wipe"],
  ["blink", "Blink"],
  ["difference", "Difference"],
  ["heat", "Loss"],
] as const;
const CHANNELS = [
  ["rgba", "All"],
  ["rgb", "Colour"],
  ["r", "R"],
  ["g", "G"],
  ["b", "B"],
  ["a", "Alpha"],
] as const;

type Props = {
  size: Size;
  levels: number;
  hasEdit: boolean;
  canDiffer: boolean;
  url: Url;
  /** light, which has an exposure */
  light?: boolean;
  /** a place to go to */
  spot?: Spot | null;
  values?: Values;
  /** what the pictures are that stand one below the other: a cube's sides, layers, slices */
  pictures?: string[];
};

export function Compare({
  size,
  levels,
  hasEdit,
  canDiffer,
  url,
  light,
  spot,
  values,
  pictures = [],
}: Props) {
  const [mode, setMode] = useState<Mode>("both");
  const [level, setLevel] = useState(0);
  const [channels, setChannels] = useState<Channels>("rgba");
  const [wipe, setWipe] = useState(50);
  const [exposure, setExposure] = useState(0);
  const [smooth, setSmooth] = useState(false);
  const [pane, setPane] = useState<Size>({ width: 400, height: 400 });
  const frame = useRef<HTMLDivElement>(null);
  const pair = mode === "difference" || mode === "heat";
  const shown = !hasEdit || (pair && !canDiffer) ? "both" : mode;
  const two = shown === "both" && hasEdit;

  useLayoutEffect(() => {
    const element = frame.current;
    if (!element) return;
    const measure = () =>
      setPane({ width: (element.clientWidth - (two ? 8 : 0)) / (two ? 2 : 1), height: element.clientHeight });
    measure();
    const observer = new ResizeObserver(measure);
    observer.observe(element);
    return () => observer.disconnect();
  }, [two]);

  const { view: now, setView } = usePanZoom(frame, fitting(size, pane));
  const middle = { x: pane.width / 2, y: pane.height / 2 };
  const zoom = (factor: number, at = middle) => setView(zoomAt(now, factor, at));
  const whole = () => setView(null);
  const show = (number: number) => {
    const height = size.height / pictures.length;
    const one = fitting({ width: size.width, height }, pane);
    setView({ ...one, y: one.y - number * height * one.zoom });
  };
  useHotkeys("+,=", () => zoom(2), BY_KEY);
  useHotkeys("-", () => zoom(0.5), BY_KEY);
  useHotkeys("0", whole, BY_KEY);
  useHotkeys("1", () => setView(centred(size, pane, 1)), BY_KEY);
  useHotkeys("[", () => setLevel(Math.max(0, level - 1)), BY_KEY);
  useHotkeys("]", () => setLevel(Math.min(levels - 1, level + 1)), BY_KEY);
  useHotkeys(
    "s,w,b,d",
    (event) => {
      const found = { s: "both", w: "wipe", b: "blink", d: "difference" }[event.key];
      if (found && hasEdit) setMode(found as Mode);
    },
    ANYWHERE,
  );

  // Asked for from outside: the worst block, large and in the middle.
  useEffect(() => {
    if (!spot) return;
    const close = Math.min(16, Math.max(1, Math.min(pane.width, pane.height) / (spot.side * 6)));
    setLevel(0);
    setView({
      zoom: close,
      x: pane.width / 2 - (spot.x + spot.side / 2) * close,
      y: pane.height / 2 - (spot.y + spot.side / 2) * close,
    });
  }, [spot, pane.width, pane.height, setView]);

  const picture = (which: Which) => (
    <Picture
      src={url(which, which === "heat" ? 0 : level, channels, exposure)}
      alt={`${which}, mip level ${level}`}
      size={size}
      view={now}
      spot={spot}
      level={which === "heat" ? 0 : level}
      pane={pane}
      smooth={smooth}
    />
  );
  const under = useValues(values, level, size, now, shown === "wipe" ? wipe / 100 : null);
  const panes: Record<Mode, () => ReactNode> = {
    both: () => (
      <>
        <Pane label="original">{picture("original")}</Pane>
        {hasEdit && <Pane label="edit">{picture("edit")}</Pane>}
      </>
    ),
    wipe: () => (
      <Pane label="original | edit">
        {picture("original")}
        <div className="ground absolute inset-0" style={{ clipPath: `inset(0 0 0 ${wipe}%)` }}>
          {picture("edit")}
        </div>
        <div
          aria-hidden
          className="pointer-events-none absolute inset-y-0 w-0.5 bg-gorse"
          style={{ left: `${wipe}%` }}
        />
      </Pane>
    ),
    blink: () => <Blink original={picture("original")} edit={picture("edit")} />,
    difference: () => <Pane label="difference, four times as strong">{picture("difference")}</Pane>,
    heat: () => (
      <Pane label="stored against painted: dark is equal, bright is far off">{picture("heat")}</Pane>
    ),
  };

  return (
    <div className="flex h-full min-h-0 flex-col gap-2">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        {hasEdit && (
          <Choice
            label="How to compare"
            value={shown}
            onChange={setMode}
            options={canDiffer ? MODES : MODES.slice(0, 3)}
          />
        )}
        <Choice label="Channels" value={channels} onChange={setChannels} options={CHANNELS} />
        {levels > 1 && (
          <label className="flex items-center gap-2">
            <span className="text-quiet">Mip level</span>
            <input
              type="range"
              min={0}
              max={levels - 1}
              value={Math.min(level, levels - 1)}
              onChange={(event) => setLevel(Number(event.target.value))}
              className="w-20 accent-heather"
              title="Mip level ( [ and ] )"
            />
            <span className="w-24 whitespace-nowrap tabular-nums">
              {level}: {Math.max(1, size.width >> level)}×{Math.max(1, size.height >> level)}
            </span>
          </label>
        )}
        {pictures.length > 1 && (
          <label className="flex items-center gap-2">
            <span className="text-quiet">Picture</span>
            <select
              aria-label="Picture"
              defaultValue=""
              onChange={({ target }) => (target.value ? show(Number(target.value)) : whole())}
              className="rounded-lg bg-sunk px-2 py-1"
            >
              <option value="">all {pictures.length}</option>
              {pictures.map((name, number) => (
                <option key={name} value={number}>
                  {name}
                </option>
              ))}
            </select>
          </label>
        )}
        {light && (
          <label className="flex items-center gap-2">
            <span className="text-quiet">Exposure</span>
            <input
              type="range"
              min={-8}
              max={8}
              step={0.5}
              value={exposure}
              onChange={(event) => setExposure(Number(event.target.value))}
              className="w-24 accent-heather"
              title="Exposure in stops"
            />
            <span className="w-16 whitespace-nowrap tabular-nums">
              {exposure > 0 ? "+" : ""}
              {exposure} stops
            </span>
          </label>
        )}
      </div>
      <div ref={frame} className="flex min-h-0 flex-1 gap-2 overflow-hidden" onPointerMove={under.onMove}>
        {panes[shown]()}
      </div>
      <div className="flex flex-wrap items-center gap-3">
        {shown === "wipe" && (
          <Slider.Root
            className="relative flex h-6 w-56 touch-none items-center"
            value={[wipe]}
            onValueChange={([next]) => setWipe(next ?? 50)}
          >
            <Slider.Track className="h-1.5 grow rounded bg-sunk">
              <Slider.Range className="absolute h-1.5 rounded bg-heather" />
            </Slider.Track>
            <Slider.Thumb aria-label="Where the edit begins" className="block size-5 rounded-full bg-gorse" />
          </Slider.Root>
        )}
        <Button aria-label="Smaller ( - )" title="Smaller ( - )" onClick={() => zoom(0.5)}>
          <ZoomOut className="size-4" />
        </Button>
        <span className="w-14 text-center tabular-nums">{Math.round(now.zoom * 100)} %</span>
        <Button aria-label="Larger ( + )" title="Larger ( + )" onClick={() => zoom(2)}>
          <ZoomIn className="size-4" />
        </Button>
        <Button title="The whole picture ( 0 )" onClick={whole}>
          <Maximize2 aria-hidden className="size-4" /> Whole
        </Button>
        <Button title="One pixel for each pixel ( 1 )" onClick={() => setView(centred(size, pane, 1))}>
          1 : 1
        </Button>
        <Tick title="Enlarged as the game does, between pixels" checked={smooth} onChange={setSmooth}>
          smooth
        </Tick>
        <output
          aria-label="Values under the pointer"
          className="min-w-0 flex-1 truncate text-[13.5px] text-quiet"
        >
          {under.words}
        </output>
        <Ground />
      </div>
    </div>
  );
}
