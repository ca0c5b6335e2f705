/** Words or phonemes in a row on the axis: dragged by their edges and as a whole, chosen, heard. */
import { type KeyboardEvent, type PointerEvent, useRef } from "react";
import type { Axis } from "../sound/axis";
import { type Level, pieces, type Side, type Track } from "./pieces";

/** Pixels of a piece that is drawn. */
const NARROWEST = 2;

export type Chosen = { level: Level; at: number } | null;

export function Lane({
  track,
  level,
  axis,
  at,
  chosen,
  quiet = false,
  onChoose,
  onHear,
  onDrag,
  onDrop,
}: {
  track: Track;
  level: Level;
  axis: Axis;
  /** the second that is heard */
  at: number;
  chosen: Chosen;
  /** only looked at */
  quiet?: boolean;
  onChoose?: (chosen: Chosen) => void;
  onHear: (start: number, end: number) => void;
  /** a piece, its edge (null: all of it) and the second to which that is dragged */
  onDrag?: (place: number, side: Side | null, seconds: number) => void;
  onDrop?: () => void;
}) {
  const held = useRef<{ place: number; side: Side | null; grip: number; moved: boolean } | null>(null);
  const across = (start: number, end: number) => ({
    left: `${(start / axis.longest) * 100}%`,
    width: `${((end - start) / axis.longest) * 100}%`,
  });
  const grab = (event: PointerEvent<HTMLElement>, place: number, start: number, end: number) => {
    if (quiet) return;
    const box = event.currentTarget.getBoundingClientRect();
    const reach = Math.min(7, box.width / 3);
    const left = event.clientX - box.left;
    const side = left < reach ? "start" : left > box.width - reach ? "end" : null;
    const edge = side === "end" ? end : start;
    held.current = { place, side, grip: axis.at(event.clientX) - edge, moved: false };
    event.currentTarget.setPointerCapture(event.pointerId);
    onChoose?.({ level, at: place });
  };
  const drag = (event: PointerEvent<HTMLElement>) => {
    const now = held.current;
    if (!now) return;
    now.moved = true;
    onDrag?.(now.place, now.side, axis.at(event.clientX) - now.grip);
  };
  const drop = () => {
    const now = held.current;
    held.current = null;
    if (now?.moved) onDrop?.();
  };
  return (
    <fieldset
      className={`relative m-0 min-w-0 border-0 p-0 ${quiet ? "h-5" : "h-8"}`}
      aria-label={`${quiet ? "The original's " : ""}${level === "word" ? "words" : "phonemes"}`}
    >
      {pieces(track, level).map((one, place) => {
        // What is not near to what is seen, or narrower than can be seen, waits until it is zoomed.
        const wide = ((one.end - one.start) / axis.longest) * axis.whole;
        const seen = axis.to - axis.from;
        const away = one.end < axis.from - seen || one.start > axis.to + seen;
        if ((away || wide < NARROWEST) && !(chosen?.level === level && chosen.at === place)) return null;
        const name = "text" in one ? one.text : one.code;
        const on = chosen?.level === level && chosen.at === place;
        const doubtful = "doubtful" in one && one.doubtful;
        return (
          <button
            // biome-ignore lint/suspicious/noArrayIndexKey: a piece is known by its place, and keeps the focus
            key={place}
            type="button"
            aria-pressed={quiet ? undefined : on}
            // One of a lane is reached by Tab, its neighbours from there: there can be hundreds.
            tabIndex={!quiet && (on || (chosen?.level !== level && place === 0)) ? 0 : -1}
            title={`${name || "no word"}: ${one.start.toFixed(3)} to ${one.end.toFixed(3)} s${doubtful ? "; not heard there" : ""}`}
            className={`absolute inset-y-0 touch-none overflow-clip rounded-sm border-x border-paper text-center select-none ${
              quiet ? "bg-sunk text-[11.5px] text-quiet" : "text-[13.5px] text-ink"
            } ${quiet ? "" : doubtful ? "bg-rust-soft" : level === "word" ? "bg-heather-soft" : "bg-moss-soft"} ${
              on ? "z-10 outline-[3px] -outline-offset-1 outline-heather" : ""
            } ${at >= one.start && at < one.end ? "font-bold underline underline-offset-4" : ""}`}
            style={across(one.start, one.end)}
            onPointerDown={(event) => grab(event, place, one.start, one.end)}
            onPointerMove={drag}
            onPointerUp={drop}
            onPointerCancel={drop}
            onDoubleClick={() => onHear(one.start, one.end)}
            onFocus={() => quiet || held.current || onChoose?.({ level, at: place })}
            onKeyDown={(event: KeyboardEvent) => {
              const { nextElementSibling: next, previousElementSibling: last } = event.currentTarget;
              const other = event.key === "PageDown" ? next : event.key === "PageUp" ? last : null;
              if (event.key === "Enter") onHear(one.start, one.end);
              else if (other instanceof HTMLElement) other.focus();
              else return;
              event.preventDefault();
            }}
          >
            {!quiet && (
              <>
                <span className="absolute inset-y-0 left-0 w-1.5 max-w-1/3 cursor-col-resize" />
                <span className="absolute inset-y-0 right-0 w-1.5 max-w-1/3 cursor-col-resize" />
              </>
            )}
            <span className="sticky inset-x-1 inline-block">{name || "…"}</span>
          </button>
        );
      })}
    </fieldset>
  );
}
