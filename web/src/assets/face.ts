/** What a kind draws of its items, and with what it is drawn. */
import type { LucideIcon } from "lucide-react";
import type { ComponentType } from "react";
import type { Edit, Member } from "../api/client";

type Of = { project: string; member: Member; opened: string };
/** Something to go to in the comparison, such as the worst block; `at` tells one wish from the next. */
export type Spot = { x: number; y: number; side: number; at: number };

/** What a kind draws. */
export type Face = {
  icon: LucideIcon;
  /** inside a tile of the light table, which is `side` pixels wide and high */
  Tile: ComponentType<Of & { side: number }>;
  /** an item in one short line, beside its name */
  summary: (member: Member) => string;
  /** whether only a part of an item is here: it can be looked at, not edited */
  inPart?: (member: Member) => boolean;
  /** the chosen item, larger */
  Large: ComponentType<Of>;
  /** what else the detail shows, below its actions */
  More?: ComponentType<Of & { onSearch: (name: string) => void }>;
  /** an edit, small, as it was or as it is */
  Small: ComponentType<{ project: string; edit: Edit; which: "original" | "edit" }>;
  /** original and edit together */
  Compare: ComponentType<{ project: string; edit: Edit; spot: Spot | null }>;
  /** bytes without a header, explained as this kind; corrected by hand, kept as a layout */
  Guess?: ComponentType<{ project: string; address: string }>;
  /** the kind's own forms beside the comparison */
  Forms?: ComponentType<{ project: string; edit: Edit; onSpot: (place: Omit<Spot, "at">) => void }>;
};
