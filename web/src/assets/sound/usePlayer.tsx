/** Plays a sound: whole, from a place, or a part; when it is exchanged for another one it goes on where it was. */
import { Pause, Play, Repeat } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { Button } from "../../components/controls";
import { BY_KEY } from "../../lib/keys";

export type Player = ReturnType<typeof usePlayer>;

/** Where a sound is heard from one second to another; all of it where both are 0. */
export type Source = (start: number, stop: number) => string;

/** Seconds from which on a sound comes in parts, and of a part. */
const LONG = 240;
const PART = 120;

/** When it is known what there is to hear: something, or nothing. */
const LOADED = ["canplay", "error", "ended"] as const;

/** ``others``: what it may be exchanged for; these are loaded too, so that nothing is silent in between. */
export function usePlayer(source: Source | undefined, longest: number, others: Source[] = []) {
  const [at, setAt] = useState(0);
  const [playing, setPlaying] = useState(false);
  const [again, setAgain] = useState(false);
  const [first, setFirst] = useState(0);
  const long = longest > LONG;
  const base = long ? first : 0;
  const part = (one: Source, start = base) =>
    long ? one(start, Math.min(start + PART, longest)) : one(0, 0);
  const src = source && part(source);
  const elements = useRef(new Map<string, HTMLAudioElement>());
  const active = () => elements.current.get(src ?? "") ?? null;
  // What was heard before stays until the other one has begun.
  const [shown, setShown] = useState(src);
  const [leaving, setLeaving] = useState<string | undefined>();
  if (shown !== src) {
    setLeaving(shown);
    setShown(src);
  }
  /** Where the next part is begun; without it the other one goes on where the one before was. */
  const begin = useRef<{ at: number; on: boolean } | null>(null);
  // A part is heard to its end, and no further.
  const until = useRef<number | null>(null);
  const toggle = () => {
    const now = active();
    if (!now) return;
    if (now.paused) void now.play();
    else now.pause();
  };
  const go = (seconds: number, on: boolean) => {
    const start = long ? Math.floor(seconds / PART) * PART : 0;
    const now = active();
    setAt(seconds);
    if (start !== base) {
      begin.current = { at: seconds - start, on };
      setFirst(start);
    } else if (now) {
      now.currentTime = seconds - base;
      if (on) void now.play();
    }
  };
  const seek = (seconds: number) => {
    until.current = null;
    go(seconds, playing);
  };
  const playPart = (start: number, end: number) => {
    until.current = end;
    go(start, true);
  };
  useEffect(() => {
    const now = elements.current.get(src ?? "");
    const before = elements.current.get(leaving ?? "");
    if (!now || !before || now === before) return;
    const wanted = begin.current;
    begin.current = null;
    const on = wanted ? wanted.on : !before.paused;
    const take = () => {
      const place = wanted ? wanted.at : before.currentTime;
      now.currentTime = Math.min(place, now.duration || place);
      if (on)
        void now
          .play()
          .catch(() => undefined)
          .then(() => before.pause());
      else before.pause();
      setLeaving(undefined);
    };
    if (now.readyState >= HTMLMediaElement.HAVE_FUTURE_DATA) take();
    else for (const known of LOADED) now.addEventListener(known, take, { once: true });
    return () => {
      for (const known of LOADED) now.removeEventListener(known, take);
    };
  }, [src, leaving]);
  useHotkeys("space", toggle, { ...BY_KEY, preventDefault: true });
  useHotkeys("Home", () => seek(0), { ...BY_KEY, preventDefault: true });
  useHotkeys("l", () => setAgain((now) => !now), BY_KEY);
  useEffect(() => {
    if (!playing) return;
    let frame = requestAnimationFrame(function step() {
      const now = elements.current.get(src ?? "");
      const seconds = base + (now?.currentTime ?? 0);
      setAt(seconds);
      if (now && until.current !== null && seconds >= until.current) {
        until.current = null;
        now.pause();
      }
      frame = requestAnimationFrame(step);
    });
    return () => cancelAnimationFrame(frame);
  }, [playing, src, base]);
  const next = long && source && base + PART < longest ? part(source, base + PART) : undefined;
  const all = [src, leaving, next, ...others.map((one) => part(one))];
  const heard = [...new Set(all)].filter((one) => one !== undefined);
  const isActive = (event: { currentTarget: HTMLAudioElement }) => event.currentTarget === active();
  const ended = (element: HTMLAudioElement) => {
    setPlaying(false);
    // The shorter one of two may have ended before the axis does.
    if (next && element.duration >= PART - 0.1) go(base + PART, true);
    else if (long && again) go(0, true);
  };
  const audio = heard.map((one) => (
    // biome-ignore lint/a11y/useMediaCaption: a game's sound effect has no captions
    <audio
      key={one}
      ref={(element) => {
        if (element) elements.current.set(one, element);
        else elements.current.delete(one);
      }}
      src={one}
      loop={again && !long}
      preload="auto"
      onPlay={(event) => isActive(event) && setPlaying(true)}
      onPause={(event) => isActive(event) && setPlaying(false)}
      onEnded={(event) => isActive(event) && ended(event.currentTarget)}
    />
  ));
  return { at, playing, again, setAgain, toggle, seek, playPart, audio };
}

export function PlayButtons({ player, disabled = false }: { player: Player; disabled?: boolean }) {
  return (
    <>
      <Button
        look="act"
        disabled={disabled}
        onClick={player.toggle}
        title="Play and stop (Space), back (Home)"
      >
        {player.playing ? <Pause aria-hidden className="size-4" /> : <Play aria-hidden className="size-4" />}
        {player.playing ? "Stop" : "Play"}
      </Button>
      <Button
        aria-pressed={player.again}
        aria-label="Again and again"
        title="Again and again (L)"
        className={player.again ? "outline-[3px] outline-heather" : ""}
        onClick={() => player.setAgain(!player.again)}
      >
        <Repeat aria-hidden className="size-4" />
      </Button>
    </>
  );
}
