/** Colour steps as the page edits them; what they do is the server's to know (docs/recolour.md). */
import type { Schemas } from "../../api/client";

export type Change =
  | "hue"
  | "saturation"
  | "lightness"
  | "levels"
  | "tint"
  | "gradient"
  | "hues"
  | "colours"
  | "like"
  | "curve";

/** A step: one change with its value, how much of it, and where it works. */
export type Step = Record<string, unknown> & { amount?: number; mask?: Mask; maps?: Record<string, number> };
export type Mask = { light?: [number, number]; hues?: [number, number]; inverted?: boolean } & Record<
  string,
  unknown
>;
/** A step in the list; the number stays with it when it is moved. */
export type Listed = { key: number; step: Step };

type About = { title: string; hint: string; first: unknown };

export const CHANGES: Record<Change, About> = {
  gradient: {
    title: "Gradient by lightness",
    hint: "dark parts get the first colour, light parts the last",
    first: ["#20140a", "#8a4b2c", "#f6e7c8"],
  },
  hues: {
    title: "Some hues become another",
    hint: "greys and all other colours stay",
    first: { from: [220, 300], to: 29 },
  },
  hue: { title: "Turn all hues", hint: "in degrees", first: 0 },
  saturation: { title: "More or less colour", hint: "0 is grey", first: 1 },
  lightness: { title: "Lighter or darker", hint: "hue and colour stay", first: 0 },
  levels: { title: "Levels", hint: "what becomes black and white", first: {} },
  tint: { title: "Tint", hint: "one hue for all, as light as it was", first: "#8a4b2c" },
  colours: { title: "Exchange colours", hint: "exactly these", first: { "#000000": "#8a4b2c" } },
  like: { title: "Colours of another picture", hint: "its mean colours and their spread", first: "" },
  curve: {
    title: "Curve",
    hint: "points of before and after",
    first: [
      [0, 0],
      [1, 1],
    ],
  },
};

const NAMES = Object.keys(CHANGES) as Change[];

export const changeOf = (step: Step): Change => NAMES.find((name) => step[name] !== undefined) ?? "hue";

let last = 0;
export const listed = (steps: readonly Step[]): Listed[] =>
  steps.map((step) => {
    last += 1;
    return { key: last, step };
  });

export const fresh = (change: Change): Step => ({ [change]: CHANGES[change].first }) as Step;

/** What the server is asked for: a picture to take colours from that was not chosen yet is no step. */
export const asked = (list: readonly Listed[]): Step[] =>
  list.map(({ step }) => step).filter((step) => step.like !== "");

export const moved = (list: readonly Listed[], from: number, by: number): Listed[] => {
  const to = from + by;
  const next = [...list];
  const [one] = next.splice(from, 1);
  if (one === undefined || to < 0 || to >= list.length) return [...list];
  next.splice(to, 0, one);
  return next;
};

/** A hue of Oklab as the eye knows it, for the ground of a slider. */
export const hueColour = (degrees: number): string => `oklch(0.68 0.14 ${degrees})`;
export const HUES = `linear-gradient(to right, ${Array.from({ length: 13 }, (_, at) => hueColour(at * 30)).join(", ")})`;

export type KeptColours = Schemas["KeptColours"];
