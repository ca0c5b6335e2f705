import { useMemo, useRef } from "react";
import type { Schemas } from "../../api/client";
import { hexOf } from "./numbers";

export const COLUMNS = 16;
export const ROWS = 16;

export type Selection = { start: number; end: number };

/** Bytes with the fields laid over them; drag, or Shift with the arrow keys, selects. */
export function ByteView({
  window,
  size,
  selection,
  onSelect,
  onGo,
}: {
  window: Schemas["WindowView"];
  size: number;
  selection: Selection | null;
  onSelect: (selection: Selection) => void;
  onGo: (offset: number) => void;
}) {
  const bytes = useMemo(() => Uint8Array.from(atob(window.bytes), (c) => c.charCodeAt(0)), [window.bytes]);
  const anchor = useRef<number | null>(null);
  const fields = useMemo(() => {
    const found: (Schemas["Value"] | undefined)[] = new Array(bytes.length);
    for (const field of window.fields)
      for (let at = Math.max(field.start - window.offset, 0); at < field.end - window.offset; at += 1)
        if (at < bytes.length) found[at] = field;
    return found;
  }, [bytes, window]);
  const choose = (at: number, extend: boolean) => {
    const place = window.offset + at;
    if (!extend || anchor.current === null) anchor.current = place;
    onSelect({ start: Math.min(anchor.current, place), end: Math.max(anchor.current, place) + 1 });
  };
  const key = (event: React.KeyboardEvent) => {
    const step = { ArrowLeft: -1, ArrowRight: 1, ArrowUp: -COLUMNS, ArrowDown: COLUMNS }[event.key];
    const page = { PageUp: -1, PageDown: 1 }[event.key];
    if (page !== undefined) {
      event.preventDefault();
      onGo(Math.min(Math.max(window.offset + page * COLUMNS * ROWS, 0), size) & ~15);
    } else if (step !== undefined) {
      event.preventDefault();
      const now = selection
        ? anchor.current === selection.start
          ? selection.end - 1
          : selection.start
        : window.offset;
      const at = Math.min(Math.max(now + step - window.offset, 0), bytes.length - 1);
      choose(at, event.shiftKey);
    }
  };
  const rows = Array.from({ length: Math.ceil(bytes.length / COLUMNS) }, (_, row) => row);
  const chosen = (at: number) =>
    selection !== null && window.offset + at >= selection.start && window.offset + at < selection.end;
  return (
    <fieldset
      aria-label="Bytes"
      // biome-ignore lint/a11y/noNoninteractiveTabindex: bytes are chosen by keyboard too
      tabIndex={0}
      onKeyDown={key}
      onWheel={(event) => onGo(Math.max(0, window.offset + Math.sign(event.deltaY) * COLUMNS * 4) & ~15)}
      className="shrink-0 overflow-x-auto rounded-lg bg-raised p-2 font-mono text-[13px] leading-[1.6] select-none"
    >
      {rows.map((row) => (
        <div key={row} className="flex whitespace-pre">
          <span className="w-24 text-quiet">
            {(window.offset + row * COLUMNS).toString(16).padStart(8, "0")}
          </span>
          {Array.from({ length: Math.min(COLUMNS, bytes.length - row * COLUMNS) }, (_, column) => {
            const at = row * COLUMNS + column;
            const field = fields[at];
            return (
              // biome-ignore lint/a11y/noStaticElementInteractions: the group above takes the keyboard
              <span
                key={at}
                title={
                  field ? `${field.name}${field.value ? ` = ${field.value}` : ""}` : "nothing explains this"
                }
                onMouseDown={() => choose(at, false)}
                onMouseEnter={(event) => event.buttons === 1 && choose(at, true)}
                className={`w-7 text-center ${chosen(at) ? "bg-gorse font-bold text-gorse-ink" : ""}`}
                style={
                  chosen(at)
                    ? undefined
                    : { background: field ? `var(--kind-${field.kind}-soft)` : undefined }
                }
              >
                {hexOf([bytes[at] ?? 0])}
              </span>
            );
          })}
          <span aria-hidden className="pl-4 text-quiet">
            {Array.from(bytes.slice(row * COLUMNS, (row + 1) * COLUMNS), (byte) =>
              byte >= 32 && byte < 127 ? String.fromCharCode(byte) : "·",
            ).join("")}
          </span>
        </div>
      ))}
    </fieldset>
  );
}
