/** How each kind of item looks: a folder here for each kind, found by itself; stages lay out, kinds draw. */
import { AlertTriangle, Binary, Layers, type LucideIcon, Package } from "lucide-react";
import type { Member, Schemas } from "../api/client";
import type { Face } from "./face";
import type { Kind } from "./kinds";
import { plain } from "./plain";

const found = import.meta.glob<{ default: Face }>("./*/face.tsx", { eager: true });
const FACES: Record<string, Face> = Object.fromEntries(
  Object.entries(found).map(([path, module]) => [path.split("/")[1] ?? path, module.default]),
);

/** What is no kind of its own. */
const OTHERS: Record<string, { title: string; titles: string; icon: LucideIcon }> = {
  archive: { title: "Archive inside", titles: "Archives inside", icon: Package },
  part: { title: "Part of another", titles: "Parts of others", icon: Layers },
  data: { title: "Other data", titles: "Other data", icon: Binary },
};

/** How a kind looks: its own face, or one made from what the server says of it. */
export function faceOf(id: string): Face {
  return FACES[id] ?? plain;
}

/** Several of a kind, in words. */
export function titlesOf(kinds: Kind[] | undefined, id: string): string {
  return kinds?.find((kind) => kind.id === id)?.titles ?? OTHERS[id]?.titles ?? id;
}

/** One of a kind, in words. */
export function titleOf(kinds: Kind[] | undefined, id: string): string {
  return kinds?.find((kind) => kind.id === id)?.title ?? OTHERS[id]?.title ?? id;
}

/** The sign of a kind. */
export function signOf(id: string): LucideIcon {
  return OTHERS[id]?.icon ?? faceOf(id).icon;
}

/** The sign of a kind, or of something that is damaged. */
export function iconOf(face: Face, member: Member): LucideIcon {
  if (member.fault) return AlertTriangle;
  return OTHERS[member.kind]?.icon ?? face.icon;
}

/** A fact as a person reads it; nothing where there is nothing to say. */
export function factWords(fact: Schemas["FactView"], value: string | number | undefined): string | null {
  if (value === undefined || value === null) return null;
  const words = fact.words[String(value)];
  if (words !== undefined) return words || null;
  const number = typeof value === "number" && fact.unit ? value.toLocaleString("en") : String(value);
  const text = fact.case === "capitals" ? number.toUpperCase() : number;
  return fact.unit ? `${text} ${fact.unit}` : text;
}

/** Whether an item can be edited. */
export function canEdit(kind: Kind | undefined, member: Member): boolean {
  return (kind?.suffixes.length ?? 0) > 0 && !member.fault && !faceOf(member.kind).inPart?.(member);
}
