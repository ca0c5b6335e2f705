/** Plays a sound: whole, from a place, or a part; when it is exchanged for another one it goes on where it was. */
import { Pause, Play, Repeat } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { Button } from "../../components/controls";
import { BY_KEY } from "../../lib/keys";

export type Player = ReturnType<typeof usePlayer>;

/** ``others``: what it may be exchanged for; these are loaded too, so that nothing is silent in between. */
export function usePlayer(src: string | undefined, others: string[] = []) {
  const [at, setAt] = useState(0);
  const [playing, setPlaying] = useState(false);
  const [again, setAgain] = useState(false);
  const elements = useRef(new Map<string, HTMLAudioElement>());
  const active = () => elements.current.get(src ?? "") ?? null;
  // What was heard before stays until the other one has begun.
  const [shown, setShown] = useState(src);
  const [leaving, setLeaving] = useState<string | undefined>();
  if (shown !== src) {
    setLeaving(shown);
    setShown(src);
  }
  // A part is heard to its end, and no further.
  const until = useRef<number | null>(null);
  const toggle = () => {
    const now = active();
    if (!now) return;
    if (now.paused) void now.play();
    else now.pause();
  };
  const seek = (seconds: number) => {
    until.current = null;
    const now = active();
    if (now) now.currentTime = seconds;
    setAt(seconds);
  };
  const playPart = (start: number, end: number) => {
    seek(start);
    until.current = end;
    void active()?.play();
  };
  useEffect(() => {
    const now = elements.current.get(src ?? "");
    const before = elements.current.get(leaving ?? "");
    if (!now || !before || now === before) return;
    const on = !before.paused;
    const take = () => {
      now.currentTime = Math.min(before.currentTime, now.duration || before.currentTime);
      if (on)
        void now
          .play()
          .catch(() => undefined)
          .then(() => before.pause());
      setLeaving(undefined);
    };
    if (now.readyState >= HTMLMediaElement.HAVE_FUTURE_DATA) take();
    else now.addEventListener("canplay", take, { once: true });
    return () => now.removeEventListener("canplay", take);
  }, [src, leaving]);
  useHotkeys("space", toggle, { ...BY_KEY, preventDefault: true });
  useHotkeys("Home", () => seek(0), { ...BY_KEY, preventDefault: true });
  useHotkeys("l", () => setAgain((now) => !now), BY_KEY);
  useEffect(() => {
    if (!playing) return;
    let frame = requestAnimationFrame(function step() {
      const now = elements.current.get(src ?? "");
      setAt(now?.currentTime ?? 0);
      if (now && until.current !== null && now.currentTime >= until.current) {
        until.current = null;
        now.pause();
      }
      frame = requestAnimationFrame(step);
    });
    return () => cancelAnimationFrame(frame);
  }, [playing, src]);
  const heard = [...new Set([src, leaving, ...others])].filter((one) => one !== undefined);
  const isActive = (event: { currentTarget: HTMLAudioElement }) => event.currentTarget === active();
  const audio = heard.map((one) => (
    // biome-ignore lint/a11y/useMediaCaption: a game's sound effect has no captions
    <audio
      key={one}
      ref={(element) => {
        if (element) elements.current.set(one, element);
        else elements.current.delete(one);
      }}
      src={one}
      loop={again}
      preload="auto"
      onPlay={(event) => isActive(event) && setPlaying(true)}
      onPause={(event) => isActive(event) && setPlaying(false)}
      onEnded={(event) => isActive(event) && setPlaying(false)}
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
