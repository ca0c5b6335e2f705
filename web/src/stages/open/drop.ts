/** Files and folders dropped on the page: their path where the browser gives it, else name and size. */
import type { DragEvent } from "react";

export type Dropped = { path?: string; name: string; size: number };

/** What was dropped; only some file managers give an address (text/uri-list, RFC 2483). */
export function droppedIn(data: DataTransfer): Dropped | null {
  const address = data
    .getData("text/uri-list")
    .split(/\r?\n/)
    .find((line) => line.startsWith("file:"));
  if (address) return { path: address, name: address, size: -1 };
  const file = data.files[0];
  return file ? { name: file.name, size: file.size } : null;
}

export function useDrop(onDropped: (dropped: Dropped) => void) {
  return {
    onDragOver: (event: DragEvent) => event.preventDefault(),
    onDrop: (event: DragEvent) => {
      event.preventDefault();
      const dropped = droppedIn(event.dataTransfer);
      if (dropped) onDropped(dropped);
    },
  };
}
