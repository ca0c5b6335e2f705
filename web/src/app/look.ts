/** Theme and ground: kept in this browser, shown by attributes of the page. */
import { useSyncExternalStore } from "react";

export type Theme = "light" | "dark";
export type Ground = "mid" | "light" | "dark" | "checks";
export const GROUNDS: Ground[] = ["mid", "light", "dark", "checks"];

const listeners = new Set<() => void>();

function stored<T extends string>(name: string, fallback: T): T {
  return (localStorage.getItem(name) as T | null) ?? fallback;
}

export function theme(): Theme {
  return stored<Theme>(
    "theme",
    window.matchMedia?.("(prefers-color-scheme: dark)").matches ? "dark" : "light",
  );
}

export function ground(): Ground {
  return stored<Ground>("ground", "mid");
}

export function applyLook(): void {
  document.documentElement.dataset.theme = theme();
  document.documentElement.dataset.ground = ground();
}

export function setLook(change: { theme?: Theme; ground?: Ground }): void {
  for (const [name, value] of Object.entries(change)) localStorage.setItem(name, value);
  applyLook();
  for (const listener of listeners) listener();
}

function subscribe(listener: () => void) {
  listeners.add(listener);
  return () => listeners.delete(listener);
}

export const useTheme = () => useSyncExternalStore(subscribe, theme);
export const useGround = () => useSyncExternalStore(subscribe, ground);
