/** Whether there is room for three panes beside each other, or only half a screen. */
import { useSyncExternalStore } from "react";

const WIDE = "(min-width: 1150px)";

function subscribe(changed: () => void) {
  const query = window.matchMedia(WIDE);
  query.addEventListener("change", changed);
  return () => query.removeEventListener("change", changed);
}

export const useWide = () => useSyncExternalStore(subscribe, () => window.matchMedia(WIDE).matches);
