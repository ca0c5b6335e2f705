/** A waveform on the light table that is heard while the pointer rests on it, at the loudness that hurts nobody. */
import { Volume2, VolumeX } from "lucide-react";
import { type ReactNode, useEffect, useRef, useState, useSyncExternalStore } from "react";

/** Milliseconds that the pointer rests before it is heard, and of full loudness. */
const RESTS = 250;
const LOUD = 0.4;
const KEPT = "brae.heard-under-pointer";

const listeners = new Set<() => void>();
const wanted = () => localStorage.getItem(KEPT) !== "no";
const subscribe = (listener: () => void) => {
  listeners.add(listener);
  return () => void listeners.delete(listener);
};
const want = (on: boolean) => {
  localStorage.setItem(KEPT, on ? "yes" : "no");
  for (const one of listeners) one();
};

export function Strip({ sound, side, children }: { sound: string; side: number; children: ReactNode }) {
  const [over, setOver] = useState(false);
  const [at, setAt] = useState<number | null>(null);
  const on = useSyncExternalStore(subscribe, wanted);
  const player = useRef<HTMLAudioElement | null>(null);
  useEffect(() => {
    if (!over || !on) return;
    const audio = new Audio();
    player.current = audio;
    audio.volume = LOUD;
    let frame = 0;
    const step = () => {
      setAt(audio.ended || audio.error ? null : audio.currentTime / (audio.duration || 1));
      frame = requestAnimationFrame(step);
    };
    const timer = setTimeout(() => {
      audio.src = sound;
      // A browser plays nothing before the first press on the page; it is no fault.
      audio.play().then(step, () => undefined);
    }, RESTS);
    return () => {
      clearTimeout(timer);
      cancelAnimationFrame(frame);
      audio.pause();
      audio.removeAttribute("src");
      audio.load();
      setAt(null);
    };
  }, [over, on, sound]);
  return (
    <div
      className="relative size-full"
      onPointerEnter={(event) => event.pointerType === "mouse" && setOver(true)}
      onPointerLeave={() => setOver(false)}
    >
      {children}
      {at !== null && (
        <span
          data-heard
          className="pointer-events-none absolute inset-y-0 w-0.5 bg-gorse"
          style={{ left: `${at * 100}%` }}
        />
      )}
      {over && side >= 84 && (
        <button
          type="button"
          tabIndex={-1}
          aria-pressed={on}
          title={
            on
              ? "Sounds are heard under the pointer; press for silence"
              : "Sounds stay silent under the pointer; press to hear them"
          }
          className="absolute top-1 right-1 grid size-7 place-items-center rounded-md bg-paper/80 text-ink hover:bg-paper"
          onPointerDown={(event) => event.stopPropagation()}
          onClick={(event) => {
            event.stopPropagation();
            want(!on);
          }}
        >
          {on ? <Volume2 aria-hidden className="size-4" /> : <VolumeX aria-hidden className="size-4" />}
        </button>
      )}
    </div>
  );
}
