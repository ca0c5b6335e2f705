/** A sequence that plays: which step is seen, and the keys for it. */
import { useEffect, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { ANYWHERE, BY_KEY } from "../../lib/keys";

export type Step = { frame: number; ms: number };

/** `onEnd` is called where a sequence ends that does not begin anew; it says whether another one follows. */
export function usePlaying(steps: Step[], loop: boolean, speed: number, onEnd: () => boolean = () => false) {
  // Who asked for less motion starts it by hand.
  const [playing, setPlaying] = useState(
    () => !window.matchMedia("(prefers-reduced-motion: reduce)").matches && steps.length > 1,
  );
  const [at, setAt] = useState(0);
  const step = at % Math.max(1, steps.length);
  const ms = steps[step]?.ms ?? 100;
  useEffect(() => {
    if (!playing || steps.length < 2) return;
    const timer = setTimeout(
      () => {
        if (step + 1 < steps.length || loop) setAt((step + 1) % steps.length);
        else if (onEnd()) setAt(0);
        else setPlaying(false);
      },
      Math.max(16, ms / speed),
    );
    return () => clearTimeout(timer);
  }, [playing, step, ms, speed, loop, steps.length, onEnd]);
  const go = (next: number) => {
    setPlaying(false);
    setAt(Math.max(0, next < 0 ? steps.length - 1 : next));
  };
  const toggle = () => {
    // What has come to its end begins anew.
    if (!playing && !loop && step + 1 >= steps.length) setAt(0);
    setPlaying(!playing);
  };
  useHotkeys("space", toggle, { ...ANYWHERE, preventDefault: true });
  useHotkeys(",", () => go(step - 1), BY_KEY);
  useHotkeys(".", () => go(step + 1), BY_KEY);
  return { step, frame: steps[step]?.frame ?? 0, playing, toggle, go };
}
