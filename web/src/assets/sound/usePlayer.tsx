/** Plays a sound: whole, from a place, or a part; when it is exchanged for another one it goes on where it was. */
import { Pause, Play, Repeat } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { Button } from "../../components/controls";
import { BY_KEY } from "../../lib/keys";

export type Player = ReturnType<typeof usePlayer>;

export function usePlayer(src: string | undefined) {
  const [at, setAt] = useState(0);
  const [playing, setPlaying] = useState(false);
  const [again, setAgain] = useState(false);
  const element = useRef<HTMLAudioElement>(null);
  const resume = useRef<{ at: number; on: boolean } | null>(null);
  // A part is heard to its end, and no further.
  const until = useRef<number | null>(null);
  const toggle = () => {
    const now = element.current;
    if (!now) return;
    if (now.paused) void now.play();
    else now.pause();
  };
  const seek = (seconds: number) => {
    until.current = null;
    if (element.current) element.current.currentTime = seconds;
    setAt(seconds);
  };
  const playPart = (start: number, end: number) => {
    seek(start);
    until.current = end;
    void element.current?.play();
  };
  /** Exchanges what is heard: the other one goes on at the same place. */
  const change = (act: () => void) => {
    const now = element.current;
    resume.current = now ? { at: now.currentTime, on: !now.paused } : null;
    act();
  };
  const loaded = () => {
    const now = element.current;
    const before = resume.current;
    if (!now || !before) return;
    resume.current = null;
    now.currentTime = Math.min(before.at, now.duration || before.at);
    if (before.on) void now.play();
  };
  useHotkeys("space", toggle, { ...BY_KEY, preventDefault: true });
  useHotkeys("Home", () => seek(0), { ...BY_KEY, preventDefault: true });
  useHotkeys("l", () => setAgain((now) => !now), BY_KEY);
  useEffect(() => {
    if (!playing) return;
    let frame = requestAnimationFrame(function step() {
      const now = element.current;
      setAt(now?.currentTime ?? 0);
      if (now && until.current !== null && now.currentTime >= until.current) {
        until.current = null;
        now.pause();
      }
      frame = requestAnimationFrame(step);
    });
    return () => cancelAnimationFrame(frame);
  }, [playing]);
  const audio = (
    // biome-ignore lint/a11y/useMediaCaption: a game's sound effect has no captions
    <audio
      ref={element}
      src={src}
      loop={again}
      preload="auto"
      onLoadedMetadata={loaded}
      onPlay={() => setPlaying(true)}
      onPause={() => setPlaying(false)}
      onEnded={() => setPlaying(false)}
    />
  );
  return { at, playing, again, setAgain, toggle, seek, playPart, change, audio };
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
