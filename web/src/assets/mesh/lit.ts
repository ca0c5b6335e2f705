/** The part under the pointer: lit on the model and in the list, wherever the pointer is. */
import { useSyncExternalStore } from "react";

type Lit = { part: string | null; by: "model" | "list" };
let now: Lit = { part: null, by: "model" };
const listeners = new Set<() => void>();

export function light(part: string | null, by: Lit["by"]): void {
  if (part === now.part) return;
  now = { part, by };
  for (const tell of listeners) tell();
}

export const useLit = (): Lit =>
  useSyncExternalStore(
    (tell) => {
      listeners.add(tell);
      return () => listeners.delete(tell);
    },
    () => now,
  );
