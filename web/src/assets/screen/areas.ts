/** Rectangles of a screen: what is done with them, in pixels of the picture. */
import type { Schemas } from "../../api/client";

export type Area = Schemas["Area"];
export type Areas = Schemas["AreasView"];
export type Edge = "left" | "right" | "top" | "bottom";
/** Which corner is dragged; both zero: the whole rectangle. */
export type Grip = { x: -1 | 0 | 1; y: -1 | 0 | 1 };

const snap = (value: number, grid: number) => Math.round(value / grid) * grid;

/** A rectangle after a drag by so many pixels; it neither leaves the screen nor turns over. */
export function dragged(area: Area, grip: Grip, right: number, down: number, screen: Areas): Area {
  if (grip.x === 0 && grip.y === 0) {
    const x = within(snap(area.x + right, screen.grid), screen.width - area.width);
    const y = within(snap(area.y + down, screen.grid), screen.height - area.height);
    return { ...area, x, y };
  }
  const [x, width] = stretched(area.x, area.width, grip.x, right, screen.grid, screen.width);
  const [y, height] = stretched(area.y, area.height, grip.y, down, screen.grid, screen.height);
  return { ...area, x, y, width, height };
}

const within = (value: number, most: number) => Math.max(0, Math.min(value, Math.max(0, most)));

function stretched(at: number, size: number, grip: number, by: number, grid: number, most: number) {
  if (grip === 0) return [at, size] as const;
  if (grip > 0) {
    const end = Math.max(at + grid, Math.min(snap(at + size + by, grid), most));
    return [at, end - at] as const;
  }
  const start = Math.max(0, Math.min(snap(at + by, grid), at + size - grid));
  return [start, at + size - start] as const;
}

/** A rectangle between two points, wherever the second one is. */
export function drawn(x0: number, y0: number, x1: number, y1: number, screen: Areas): Area {
  const at = (value: number, most: number) => within(snap(value, screen.grid), most);
  const [left, right] = [at(Math.min(x0, x1), screen.width), at(Math.max(x0, x1), screen.width)];
  const [top, bottom] = [at(Math.min(y0, y1), screen.height), at(Math.max(y0, y1), screen.height)];
  const numbers = Object.fromEntries(screen.roles.map(({ id }) => [id, 0]));
  return { x: left, y: top, width: right - left, height: bottom - top, numbers };
}

/** All chosen ones with the same edge as the first of them. */
export function aligned(areas: Area[], chosen: number[], edge: Edge): Area[] {
  const first = areas[chosen[0] ?? -1];
  if (!first) return areas;
  return areas.map((area, number) => {
    if (!chosen.includes(number)) return area;
    if (edge === "left") return { ...area, x: first.x };
    if (edge === "right") return { ...area, x: first.x + first.width - area.width };
    if (edge === "top") return { ...area, y: first.y };
    return { ...area, y: first.y + first.height - area.height };
  });
}

/** The number of the screen that a rectangle leads to; undefined where it leads to none. */
export function targetOf({ numbers }: Area, { leads }: Areas): number | undefined {
  return leads && !leads.includes(numbers?.action ?? -1) ? undefined : numbers?.target;
}

/** A rectangle in a few words: what it says, what it does. */
export function wordsOf(area: Area, screen: Areas): string {
  const said = screen.roles
    .filter(({ id }) => id === "action" || id === "target" || id === "shows")
    .map(({ id, known }) => {
      const number = id === "target" ? targetOf(area, screen) : area.numbers?.[id];
      return number === undefined
        ? null
        : id === "target"
          ? `→ ${number}`
          : (known[number] ?? String(number));
    });
  return [area.label, ...said].filter(Boolean).join(" ");
}
