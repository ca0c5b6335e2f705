/** A rectangle drawn over the table chooses what it touches; near the upper or lower edge the table moves along. */
import { useEffect, useRef, useState } from "react";

export type Area = { left: number; top: number; right: number; bottom: number };

/** pixels after which a press is a drag; from the edge where the table moves; and how far it moves at a time */
const FROM = 7;
const EDGE = 36;
const STEP = 24;

/** The rectangle while it is drawn, in the content of `frame`; `onArea` gets it at every move, and which is the first. */
export function useLasso(
  frame: React.RefObject<HTMLDivElement | null>,
  onArea: (area: Area, more: boolean, first: boolean) => void,
): Area | null {
  const [area, setArea] = useState<Area | null>(null);
  const latest = useRef(onArea);
  latest.current = onArea;
  useEffect(() => {
    const element = frame.current;
    if (!element) return;
    let from: { x: number; y: number } | null = null;
    let drawn = false;
    let last: PointerEvent | null = null;
    let timer = 0;
    const at = (event: PointerEvent) => {
      const box = element.getBoundingClientRect();
      return { x: event.clientX - box.left, y: event.clientY - box.top + element.scrollTop };
    };
    const draw = (first = false) => {
      if (!from || !last) return;
      const to = at(last);
      const next = {
        left: Math.min(from.x, to.x),
        top: Math.min(from.y, to.y),
        right: Math.max(from.x, to.x),
        bottom: Math.max(from.y, to.y),
      };
      setArea(next);
      latest.current(next, last.ctrlKey || last.metaKey, first);
    };
    const move = (event: PointerEvent) => {
      if (!from) return;
      // Let go where nobody saw it.
      if (!(event.buttons & 1)) {
        end();
        return;
      }
      const to = at(event);
      last = event;
      if (!drawn && Math.hypot(to.x - from.x, to.y - from.y) < FROM) return;
      const first = !drawn;
      drawn = true;
      event.preventDefault();
      draw(first);
    };
    const along = () => {
      if (!drawn || !last) return;
      const box = element.getBoundingClientRect();
      if (last.clientY > box.bottom - EDGE) element.scrollTop += STEP;
      else if (last.clientY < box.top + EDGE) element.scrollTop -= STEP;
      else return;
      draw();
    };
    // A mouse's press that the browser calls off (it does now and then while the page is busy) goes on all the same: it
    // is over when the button is up. Until the mouse says where it is the table stands still.
    const rest = () => {
      last = null;
    };
    const swallow = (event: MouseEvent) => event.stopPropagation();
    const end = (event?: PointerEvent) => {
      window.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", end);
      window.removeEventListener("pointercancel", rest);
      clearInterval(timer);
      if (drawn && event) {
        // The press ends on some item: that is no click on it. Where no click follows, the next one is meant.
        window.addEventListener("click", swallow, { capture: true });
        setTimeout(() => window.removeEventListener("click", swallow, { capture: true }));
      }
      from = null;
      drawn = false;
      setArea(null);
    };
    const press = (event: PointerEvent) => {
      // A finger moves the table, and so does the bar at its side.
      if (event.button !== 0 || event.pointerType === "touch") return;
      if (event.clientX > element.getBoundingClientRect().left + element.clientWidth) return;
      from = at(event);
      last = event;
      window.addEventListener("pointermove", move);
      window.addEventListener("pointerup", end);
      window.addEventListener("pointercancel", rest);
      timer = window.setInterval(along, 40);
    };
    const drag = (event: DragEvent) => event.preventDefault();
    element.addEventListener("pointerdown", press, { capture: true });
    element.addEventListener("dragstart", drag);
    return () => {
      end();
      element.removeEventListener("pointerdown", press, { capture: true });
      element.removeEventListener("dragstart", drag);
    };
  }, [frame]);
  return area;
}
