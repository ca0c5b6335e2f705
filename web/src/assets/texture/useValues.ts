import { useEffect, useRef, useState } from "react";
import type { Size, View } from "./viewport";

/** Asks for the values at a place of one of the two, in words. */
export type Values = (which: "original" | "edit", level: number, x: number, y: number) => Promise<string>;

/** The exact values under the pointer, asked for when it rests. */
export function useValues(
  values: Values | undefined,
  level: number,
  size: Size,
  view: View,
  /** how far from the left the edit begins, as a part of the width, where both lie in one pane */
  border: number | null,
) {
  const [words, setWords] = useState("");
  const timer = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);
  useEffect(() => () => clearTimeout(timer.current), []);
  const onMove = (event: React.PointerEvent) => {
    const pane = (event.target as Element).closest<HTMLElement>("[data-pane]");
    clearTimeout(timer.current);
    if (!pane || !values) return;
    const box = pane.getBoundingClientRect();
    const scale = 2 ** level;
    const x = Math.floor((event.clientX - box.left - view.x) / view.zoom / scale);
    const y = Math.floor((event.clientY - box.top - view.y) / view.zoom / scale);
    if (x < 0 || y < 0 || x >= Math.max(1, size.width >> level) || y >= Math.max(1, size.height >> level)) {
      setWords("");
      return;
    }
    const isEdit =
      border === null ? pane.dataset.pane === "edit" : (event.clientX - box.left) / box.width >= border;
    const which = isEdit ? "edit" : "original";
    timer.current = setTimeout(
      () =>
        values(which, level, x, y).then(
          (words) => setWords(`${which} ${words}`),
          () => setWords(""),
        ),
      120,
    );
  };
  return { words, onMove };
}
