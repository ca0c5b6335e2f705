/** Moving and zooming all panes of a comparison together: by dragging, by the wheel, by two fingers. */
import { useGesture } from "@use-gesture/react";
import { type RefObject, useEffect, useRef, useState } from "react";
import { type View, zoomAt } from "./viewport";

const STEP = 1.25;

/** Where both sides are looked at; `whole` as long as nobody moved. A drag that is given up goes back. */
export function usePanZoom(frame: RefObject<HTMLElement | null>, whole: View) {
  const [moved, setView] = useState<View | null>(null);
  const view = moved ?? whole;
  const live = useRef(view);
  live.current = view;
  const stop = useRef<(() => void) | null>(null);
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.key === "Escape") stop.current?.();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
  useGesture(
    {
      onDrag: ({ event, movement: [x, y], memo, cancel, canceled, last, pinching }) => {
        if (pinching) {
          cancel();
          return memo;
        }
        if (!paneOf(event)) return memo;
        const start: View = memo ?? live.current;
        stop.current = last ? null : cancel;
        setView(canceled ? start : { ...start, zoom: live.current.zoom, x: start.x + x, y: start.y + y });
        return start;
      },
      onPinch: ({ event, origin: [x, y], movement: [scale], memo }) => {
        const box = memo?.box ?? paneOf(event)?.getBoundingClientRect();
        if (!box) return memo;
        const start: View = memo?.start ?? live.current;
        setView(zoomAt(start, scale, { x: x - box.left, y: y - box.top }));
        return { start, box };
      },
      onWheel: ({ event, delta: [, y] }) => {
        if (event.ctrlKey || y === 0) return;
        event.preventDefault();
        const box = paneOf(event)?.getBoundingClientRect();
        if (box)
          setView(
            zoomAt(live.current, y < 0 ? STEP : 1 / STEP, {
              x: event.clientX - box.left,
              y: event.clientY - box.top,
            }),
          );
      },
    },
    {
      target: frame,
      eventOptions: { passive: false },
      drag: { pointer: { buttons: 1 }, preventDefault: false },
    },
  );
  return { view, setView };
}

/** The pane that something happened in; null between them. */
function paneOf(event: Event): HTMLElement | null {
  return (event.target as Element | null)?.closest<HTMLElement>("[data-pane]") ?? null;
}
