/** What is said of layouts in words. */
import type { Schemas } from "../../api/client";
import { many } from "../../lib/format";

export type Known = Schemas["KnownLayoutView"];
/** What a layout that was taken makes of a file of one's own. */
export type Trial = {
  path: string;
  outcome: "proved" | "beginning" | "unreadable";
  members: number;
  words: string;
  /** whether it was tested with this very file, and whether it lists the same here */
  known: boolean;
  same: boolean;
};
/** What came of taking a layout. */
export type Taken = {
  layout: string;
  title: string;
  version: string;
  author: string;
  licence: string;
  about: string;
  tested: number;
  recognised: number;
  trials: Trial[];
};

const PLACES: Record<Known["place"], string> = {
  game: "lies in the game's folder",
  yours: "one of yours",
  shipped: "comes with Brae",
  kept: "kept, not used",
};

export const placeOf = (known: Known): string => PLACES[known.place];

/** What a layout makes of the game's archives; `good` only where all are proved and nothing contradicts. */
export function standing(known: Known): { words: string; good: boolean | null } {
  if (known.kind !== "archive") return { words: `describes a ${known.kind}'s own header`, good: null };
  if (known.archives === 0) return { words: "knows no archive of this game", good: null };
  const waits = known.archives - known.proved - known.contradicted - known.differs;
  const parts = [
    known.proved && `${known.proved} proved`,
    known.contradicted && `${known.contradicted} contradicted by their members`,
    known.differs && `${known.differs} read-only`,
    waits && `${waits} not looked at yet`,
  ].filter(Boolean);
  return {
    words: `${many(known.archives, "archive")}: ${parts.join(", ")}`,
    good: known.proved === known.archives,
  };
}

/** What a trial came to, in words. */
export function outcomeOf(trial: Trial): string {
  if (trial.outcome === "proved")
    return trial.known
      ? `proved, ${many(trial.members, "member")}, the same as where it was tested`
      : `proved, ${many(trial.members, "member")}`;
  if (trial.outcome === "unreadable") return "cannot be read by it";
  return `a beginning, ${many(trial.members, "member")}`;
}

/** Whether nothing speaks against using a layout that was taken: it knows files here, and proves each. */
export const fits = (taken: Taken): boolean =>
  taken.trials.length > 0 && taken.trials.every((trial) => trial.outcome === "proved");
