import { useEffect, useRef, useState } from "react";

/**
 * What is changed on the page and kept on the server, one version after the other: what is shown, and how it is
 * changed. The last change is what was wanted; what is refused goes back to what was kept before.
 */
export function useInTurn<T>(
  kept: T,
  send: (next: T) => Promise<unknown>,
): [T, (next: T, wait?: number) => void, (next: T) => void] {
  const [shown, setShown] = useState(kept);
  const saved = useRef(kept);
  const wanted = useRef<{ value: T } | null>(null);
  const sending = useRef(false);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  // What was undone, or came back from elsewhere, is what is shown; not while something of one's own is on its way.
  useEffect(() => {
    if (wanted.current) return;
    saved.current = kept;
    setShown(kept);
  }, [kept]);
  const work = async () => {
    if (sending.current) return;
    sending.current = true;
    while (wanted.current && JSON.stringify(wanted.current.value) !== JSON.stringify(saved.current)) {
      const next = wanted.current.value;
      try {
        await send(next);
        saved.current = next;
      } catch {
        // The reason is shown where every refusal is.
        setShown(saved.current);
        break;
      }
    }
    wanted.current = null;
    sending.current = false;
  };
  const save = (next: T, wait = 0) => {
    setShown(next);
    wanted.current = { value: next };
    clearTimeout(timer.current);
    timer.current = setTimeout(() => void work(), wait);
  };
  return [shown, save, setShown];
}
