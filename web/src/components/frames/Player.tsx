/** Frames that play: the original alone, or the original and its edit in step beside each other. */
import { Pause, Play, SkipBack, SkipForward } from "lucide-react";
import { useCallback, useLayoutEffect, useRef, useState } from "react";
import { Button, Choice, Tick } from "../controls";
import { Ground } from "../Ground";
import { type Area, AreaOn, type Found, followedIn } from "./AreaOn";
import { Cell, type Frames, zoomFor } from "./Cell";
import { usePlaying } from "./usePlaying";

export type Which = "original" | "edit";
const SPEEDS = [0.25, 0.5, 1, 2] as const;

type Props = {
  frames: Frames;
  /** the picture in which the frames lie */
  src: (which: Which) => string;
  /** what is shown beside each other */
  sides: readonly Which[];
  tall?: boolean;
  /** an area of the edit that is followed through all frames, and where it lies in each */
  area?: { chosen: Area | null; found: Found[]; onArea: (area: Area | null) => void };
  /** moves frames of the edit back; without any, all that jump */
  onSettle?: (frames: number[]) => void;
};

export function Player({ frames: given, src, sides, tall, area, onSettle }: Props) {
  const frames = area?.chosen ? followedIn(given, area.found) : given;
  const [marking, setMarking] = useState(false);
  const [sequence, setSequence] = useState(0);
  const [speed, setSpeed] = useState<(typeof SPEEDS)[number]>(1);
  const [skin, setSkin] = useState(false);
  const [room, setRoom] = useState({ width: 240, height: 224 });
  const stage = useRef<HTMLDivElement>(null);
  const run = frames.sequences[sequence] ?? { name: "", steps: [], loop: true, next: null };
  const next = run.loop ? null : run.next;
  const follow = useCallback(() => {
    if (next == null) return false;
    setSequence(next);
    return true;
  }, [next]);
  const { step, frame, playing, toggle, go } = usePlaying(run.steps, run.loop, speed, follow);
  useLayoutEffect(() => {
    const element = stage.current;
    if (!element) return;
    const measure = () =>
      setRoom({ width: element.clientWidth / sides.length - 40, height: element.clientHeight - 24 });
    measure();
    const observer = new ResizeObserver(measure);
    observer.observe(element);
    return () => observer.disconnect();
  }, [sides.length]);
  const zoom = zoomFor(frames, room.width, room.height);
  const beside = (by: number) => run.steps[(step + by + run.steps.length) % run.steps.length]?.frame ?? 0;
  const edited = sides.includes("edit");
  // A frame of another sequence is shown in that one.
  const show = (wanted: number) => {
    const has = (number: number) => frames.sequences[number]?.steps.some((one) => one.frame === wanted);
    const number = has(sequence) ? sequence : frames.sequences.findIndex((_, other) => has(other));
    if (number < 0) return;
    setSequence(number);
    go(frames.sequences[number]?.steps.findIndex((one) => one.frame === wanted) ?? 0);
  };
  return (
    <div className={`flex w-full gap-3 ${tall ? "h-full min-h-0 flex-col" : "flex-col-reverse"}`}>
      <div className={`flex flex-wrap items-center gap-3 ${tall ? "" : "rounded-xl bg-raised p-2"}`}>
        <Button look="act" onClick={toggle} title="Play and stop (Space)" disabled={run.steps.length < 2}>
          {playing ? <Pause aria-hidden className="size-4" /> : <Play aria-hidden className="size-4" />}
          {playing ? "Stop" : "Play"}
        </Button>
        <Button aria-label="One frame back ( , )" title="One frame back ( , )" onClick={() => go(step - 1)}>
          <SkipBack aria-hidden className="size-4" />
        </Button>
        <Button aria-label="One frame on ( . )" title="One frame on ( . )" onClick={() => go(step + 1)}>
          <SkipForward aria-hidden className="size-4" />
        </Button>
        {frames.sequences.length > 1 && (
          <select
            aria-label="Sequence"
            value={sequence}
            onChange={({ target }) => {
              setSequence(Number(target.value));
              go(0);
            }}
            className="max-w-48 rounded-lg bg-sunk px-2 py-1"
          >
            {frames.sequences.map((one, number) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: sequences can have the same name
              <option key={number} value={number}>
                {one.name} ({one.steps.length})
              </option>
            ))}
          </select>
        )}
        <Choice
          label="How fast it plays"
          value={String(speed)}
          onChange={(next) => setSpeed(Number(next) as typeof speed)}
          options={SPEEDS.map((one) => [String(one), `${one}×`] as const)}
        />
        <Tick title="The frames before and after, faintly" checked={skin} onChange={setSkin}>
          neighbours
        </Tick>
        {area && sides.includes("edit") && (
          <Tick
            title="Draw a rectangle around something on the edit, such as a hat: how it moves is then told for all frames"
            checked={marking || area.chosen !== null}
            onChange={(on) => {
              setMarking(on);
              if (on) go(step);
              else area.onArea(null);
            }}
          >
            follow an area
          </Tick>
        )}
        <span className="text-[14px] text-quiet tabular-nums">
          frame {frame} · {run.steps[step]?.ms ?? 0} ms
        </span>
      </div>
      <div ref={stage} className={`flex gap-2 ${tall ? "min-h-40 flex-1" : "h-56"}`}>
        {sides.map((which) => (
          <figure
            key={which}
            className="ground relative grid min-w-0 flex-1 place-items-center overflow-hidden rounded-xl"
          >
            <div className="relative" role="img" aria-label={`The ${which}, frame ${frame}`}>
              {skin && run.steps.length > 1 && (
                <>
                  <Cell frames={frames} frame={beside(-1)} src={src(which)} zoom={zoom} faint />
                  <Cell frames={frames} frame={beside(1)} src={src(which)} zoom={zoom} faint />
                </>
              )}
              <Cell frames={frames} frame={frame} src={src(which)} zoom={zoom} />
              {area && which === "edit" && (marking || area.chosen) && (
                <AreaOn
                  frames={frames}
                  frame={frame}
                  zoom={zoom}
                  here={area.found.find((one) => one.frame === frame)}
                  chosen={area.chosen}
                  onArea={(next) => {
                    setMarking(false);
                    area.onArea(next);
                  }}
                />
              )}
            </div>
            {sides.length > 1 && (
              <figcaption className="absolute top-2 left-2 rounded bg-raised/90 px-2 text-[13.5px]">
                {which}
              </figcaption>
            )}
          </figure>
        ))}
      </div>
      {edited && <Drift frames={frames} frame={frame} onFrame={show} onSettle={onSettle} />}
      {tall && (
        <div className="flex flex-wrap items-center gap-3">
          <Strip
            frames={frames}
            src={src(edited ? "edit" : "original")}
            steps={run.steps}
            step={step}
            onStep={go}
          />
          <Ground />
        </div>
      )}
    </div>
  );
}

/** The steps of a sequence side by side; those painted on have a dot, those that jump are outlined. */
function Strip({
  frames,
  src,
  steps,
  step,
  onStep,
}: {
  frames: Frames;
  src: string;
  steps: { frame: number }[];
  step: number;
  onStep: (step: number) => void;
}) {
  const zoom = zoomFor(frames, 44, 44);
  return (
    <div className="flex min-w-0 flex-1 gap-1 overflow-x-auto p-1">
      {steps.map(({ frame }, number) => {
        const one = frames.frames[frame];
        return (
          <button
            // biome-ignore lint/suspicious/noArrayIndexKey: a sequence can show a frame twice
            key={number}
            type="button"
            aria-label={`Step ${number}: frame ${frame}${one?.jumps ? ", jumps" : one?.painted ? ", painted on" : ""}`}
            aria-current={number === step}
            onClick={() => onStep(number)}
            className={`ground relative grid size-14 shrink-0 place-items-center overflow-hidden rounded-lg ${
              number === step
                ? "outline-[3px] outline-heather"
                : one?.jumps
                  ? "outline-[3px] outline-gorse"
                  : ""
            }`}
          >
            <Cell frames={frames} frame={frame} src={src} zoom={zoom} />
            {one?.painted && (
              <span aria-hidden className="absolute right-1 bottom-1 size-2 rounded-full bg-gorse" />
            )}
          </button>
        );
      })}
    </div>
  );
}

const HEIGHT = 56;

/** How far each painted frame is off the others, to the right and down; a press goes to the frame. */
function Drift({
  frames,
  frame,
  onFrame,
  onSettle,
}: {
  frames: Frames;
  frame: number;
  onFrame: (frame: number) => void;
  onSettle?: (frames: number[]) => void;
}) {
  const told = frames.frames.map((one, number) => ({ ...one, number })).filter((one) => one.dx != null);
  const most = Math.max(1, ...told.map((one) => Math.max(Math.abs(one.dx ?? 0), Math.abs(one.dy ?? 0))));
  if (told.length < 2) return null;
  const worst = told.filter((one) => one.jumps);
  const now = told.find((one) => one.number === frame);
  return (
    <figure className="grid gap-1">
      <figcaption className="flex flex-wrap items-baseline gap-x-3 text-[14px]">
        <b>Drift</b>
        <span className="text-quiet">
          {worst.length
            ? `frame ${worst.map((one) => one.number).join(", ")} ${worst.length > 1 ? "jump" : "jumps"}`
            : "nothing jumps"}
        </span>
        {now && (
          <span className="text-quiet tabular-nums">
            frame {frame}: {signed(now.dx)} right, {signed(now.dy)} down
          </span>
        )}
        {onSettle && now && Math.hypot(now.dx ?? 0, now.dy ?? 0) >= 0.5 && (
          <button type="button" className="underline underline-offset-4" onClick={() => onSettle([frame])}>
            move this frame back
          </button>
        )}
        {onSettle && worst.length > 1 && (
          <button type="button" className="underline underline-offset-4" onClick={() => onSettle([])}>
            move all {worst.length} back
          </button>
        )}
      </figcaption>
      <div className="flex h-14 items-stretch gap-0.5 rounded-lg bg-sunk px-1">
        {told.map((one) => (
          <button
            key={one.number}
            type="button"
            aria-label={`Frame ${one.number}: ${signed(one.dx)} right, ${signed(one.dy)} down`}
            onClick={() => onFrame(one.number)}
            className={`relative min-w-2 flex-1 rounded ${one.number === frame ? "bg-line" : "hover:bg-line/60"}`}
          >
            <Bar value={one.dx ?? 0} most={most} place="left-1/4" jumps={one.jumps} />
            <Bar value={one.dy ?? 0} most={most} place="left-3/4" jumps={one.jumps} />
          </button>
        ))}
      </div>
    </figure>
  );
}

/** Upwards and downwards from the middle, half a pixel at least so that it can be seen. */
function Bar({ value, most, place, jumps }: { value: number; most: number; place: string; jumps: boolean }) {
  const size = Math.max(2, (Math.abs(value) / most) * (HEIGHT / 2 - 4));
  return (
    <span
      aria-hidden
      className={`absolute w-1 -translate-x-1/2 rounded ${place} ${jumps ? "bg-gorse" : "bg-quiet"}`}
      style={{ height: size, top: value > 0 ? HEIGHT / 2 - size : HEIGHT / 2 }}
    />
  );
}

const signed = (value: number | null | undefined) => {
  const number = Math.round((value ?? 0) * 10) / 10;
  return `${number > 0 ? "+" : number < 0 ? "−" : ""}${Math.abs(number).toFixed(1)}`;
};
