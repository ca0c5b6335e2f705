/** Two sounds one above the other on one time axis; playing goes on at the same place when they are exchanged. */
import { useQuery } from "@tanstack/react-query";
import { Pause, Play } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { client, type Edit, previewUrl, type Schemas, take } from "../../api/client";
import { Button, Choice } from "../../components/controls";
import { BY_KEY } from "../../lib/keys";
import { Words } from "./Words";

type Which = "original" | "edit";
type View = "wave" | "spectrum";
type Outline = Omit<Schemas["Outline"], "loops"> & { loops: number[][] };
const STEPS = 900;
const HEIGHT = 100;

export default function Compare({ project, edit }: { project: string; edit: Edit }) {
  const hasEdit = edit.position > 0;
  const [which, setWhich] = useState<Which>(hasEdit ? "edit" : "original");
  const [level, setLevel] = useState<"safe" | "true" | "equal">("safe");
  const [view, setView] = useState<View>("wave");
  const [at, setAt] = useState(0);
  const [playing, setPlaying] = useState(false);
  const player = useRef<HTMLAudioElement>(null);
  const resume = useRef<{ at: number; on: boolean } | null>(null);
  const { data } = useQuery({
    queryKey: ["envelope", project, edit.address, edit.revision],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/sound/envelope", {
          params: { path: { project_id: project }, query: { address: edit.address, steps: STEPS } },
        }),
      ),
  });
  const longest = Math.max(data?.original.seconds ?? 0, data?.edit?.seconds ?? 0, 0.001);
  const spectrumOf = (one: Which) =>
    previewUrl(project, edit.address, {
      which: one,
      view: "spectrum",
      width: 1024,
      height: 256,
      seconds: longest,
      revision: edit.revision,
    });
  const src = previewUrl(project, edit.address, { which, level, revision: edit.revision });

  const change = (act: () => void) => {
    const now = player.current;
    resume.current = now ? { at: now.currentTime, on: !now.paused } : null;
    act();
  };
  // The other sound goes on where this one was.
  const loaded = () => {
    const now = player.current;
    const before = resume.current;
    if (!now || !before) return;
    resume.current = null;
    now.currentTime = Math.min(before.at, now.duration || before.at);
    if (before.on) void now.play();
  };
  const toggle = () => {
    const now = player.current;
    if (!now) return;
    if (now.paused) void now.play();
    else now.pause();
  };
  useHotkeys("space", toggle, { ...BY_KEY, preventDefault: true });
  useHotkeys("x", () => hasEdit && change(() => setWhich(which === "edit" ? "original" : "edit")), BY_KEY, [
    which,
    hasEdit,
  ]);
  useEffect(() => {
    if (!playing) return;
    let frame = requestAnimationFrame(function step() {
      const now = player.current;
      setAt(now?.currentTime ?? 0);
      if (now && until.current !== null && now.currentTime >= until.current) {
        until.current = null;
        now.pause();
      }
      frame = requestAnimationFrame(step);
    });
    return () => cancelAnimationFrame(frame);
  }, [playing]);
  // A word is heard to its end, and no further.
  const until = useRef<number | null>(null);
  const playPart = (start: number, end: number) => {
    seek(start);
    until.current = end;
    void player.current?.play();
  };
  const seek = (seconds: number) => {
    until.current = null;
    if (player.current) player.current.currentTime = seconds;
    setAt(seconds);
  };
  return (
    <div className="flex h-full min-h-0 flex-col gap-3 overflow-auto">
      <div className="flex flex-wrap items-center gap-3">
        <Button look="act" onClick={toggle} title="Play and stop (Space)">
          {playing ? <Pause aria-hidden className="size-4" /> : <Play aria-hidden className="size-4" />}
          {playing ? "Stop" : "Play"}
        </Button>
        {hasEdit && (
          <Choice
            label="Which one is heard ( X )"
            value={which}
            onChange={(next) => change(() => setWhich(next))}
            options={[
              ["original", "Original"],
              ["edit", "Edit"],
            ]}
          />
        )}
        <Choice
          label="How loud it is played"
          value={level}
          onChange={(next) => change(() => setLevel(next))}
          options={[
            ["safe", "Safe loudness"],
            ...(hasEdit ? [["equal", "Equally loud"] as const] : []),
            ["true", "True loudness"],
          ]}
        />
        <Choice
          label="What is seen of them"
          value={view}
          onChange={setView}
          options={[
            ["wave", "Waveform"],
            ["spectrum", "Spectrum"],
          ]}
        />
        <span className="text-quiet tabular-nums">
          {at.toFixed(2)} of {longest.toFixed(2)} s
        </span>
      </div>
      {/* biome-ignore lint/a11y/useMediaCaption: a game's sound effect has no captions */}
      <audio
        ref={player}
        src={src}
        preload="auto"
        onLoadedMetadata={loaded}
        onPlay={() => setPlaying(true)}
        onPause={() => setPlaying(false)}
        onEnded={() => setPlaying(false)}
      />
      {data && (
        <>
          <Track
            name="original"
            outline={data.original}
            spectrum={view === "spectrum" ? spectrumOf("original") : null}
            longest={longest}
            at={at}
            on={which === "original"}
            onSeek={seek}
          />
          {data.edit && (
            <Track
              name="edit"
              outline={data.edit}
              spectrum={view === "spectrum" ? spectrumOf("edit") : null}
              longest={longest}
              at={at}
              on={which === "edit"}
              onSeek={seek}
            />
          )}
          <Words
            project={project}
            address={edit.address}
            revision={edit.revision}
            which={which}
            longest={longest}
            at={at}
            onPlay={playPart}
          />
        </>
      )}
    </div>
  );
}

function Track({
  name,
  outline,
  spectrum,
  longest,
  at,
  on,
  onSeek,
}: {
  name: Which;
  outline: Outline;
  /** the picture of its frequencies, in the place of its waveform */
  spectrum: string | null;
  longest: number;
  at: number;
  on: boolean;
  onSeek: (seconds: number) => void;
}) {
  const top = outline.high.map((value, step) => `${step} ${(HEIGHT / 2) * (1 - value)}`);
  const bottom = outline.low.map((value, step) => `${step} ${(HEIGHT / 2) * (1 - value) + 0.6}`).reverse();
  const place = (seconds: number) => (seconds / longest) * STEPS;
  return (
    <figure className="grid gap-1">
      <figcaption className="flex items-baseline gap-3">
        <b>{name}</b>
        <span className="text-[14px] text-quiet tabular-nums">
          {outline.seconds.toFixed(3)} s
          {outline.loudness == null ? " · silence" : ` · ${outline.loudness.toFixed(1)} LUFS`}
          {outline.peak == null ? "" : ` · true peak ${outline.peak.toFixed(1)} dBTP`}
        </span>
      </figcaption>
      <div
        className={`ground relative overflow-hidden rounded-xl ${on ? "outline-[3px] outline-heather" : ""}`}
      >
        {spectrum && (
          <>
            <img alt="" className="absolute inset-0 size-full" src={spectrum} />
            <span className="pointer-events-none absolute top-1 right-2 rounded bg-paper/80 px-1 text-[12px] text-ink">
              {(outline.rate / 2000).toFixed(0)} kHz
            </span>
            <span className="pointer-events-none absolute right-2 bottom-1 rounded bg-paper/80 px-1 text-[12px] text-ink">
              40 Hz
            </span>
          </>
        )}
        <svg
          viewBox={`0 0 ${STEPS} ${HEIGHT}`}
          preserveAspectRatio="none"
          className="relative block h-40 w-full cursor-text"
          role="img"
          aria-label={`${spectrum ? "Spectrum" : "Waveform"} of the ${name}`}
          onPointerDown={(event) => {
            const box = event.currentTarget.getBoundingClientRect();
            onSeek(((event.clientX - box.left) / box.width) * longest);
          }}
        >
          {outline.loops.map(([start, end]) => (
            <rect
              key={`${start} ${end}`}
              x={place(start ?? 0)}
              width={Math.max(place((end ?? 0) - (start ?? 0)), 1)}
              y={0}
              height={HEIGHT}
              className="fill-gorse/35"
            />
          ))}
          {outline.cues.map((seconds) => (
            <line
              key={seconds}
              x1={place(seconds)}
              x2={place(seconds)}
              y1={0}
              y2={HEIGHT}
              className="stroke-heather"
              strokeWidth={1.5}
              strokeDasharray="5 4"
              vectorEffect="non-scaling-stroke"
            />
          ))}
          {!spectrum && <path d={`M${[...top, ...bottom].join("L")}Z`} className="fill-[#161616]" />}
          <line
            x1={place(at)}
            x2={place(at)}
            y1={0}
            y2={HEIGHT}
            className="stroke-gorse"
            strokeWidth={2}
            vectorEffect="non-scaling-stroke"
          />
        </svg>
      </div>
    </figure>
  );
}
