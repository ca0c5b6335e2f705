/** The columns of the list: what every item has, and the facts that the kinds declare. */
import type { Member, Schemas } from "../../api/client";
import type { Kind } from "../../assets/kinds";
import { factWords, titleOf } from "../../assets/registry";
import { rounded } from "../../lib/format";

export type ListColumn = {
  id: string;
  label: string;
  width: number;
  number: boolean;
  /** whether the usual order begins with the largest */
  down: boolean;
  words: (member: Member) => string | null;
};

/** All columns that there can be. */
export function columnsOf(kinds: Kind[] | undefined): ListColumn[] {
  const own: ListColumn[] = [
    {
      id: "kind",
      label: "Kind",
      width: 110,
      number: false,
      down: false,
      words: ({ kind }) => titleOf(kinds, kind),
    },
    {
      id: "type",
      label: "File type",
      width: 110,
      number: false,
      down: false,
      words: ({ container }) => container ?? null,
    },
  ];
  const facts = new Map<string, Schemas["FactView"]>();
  for (const kind of kinds ?? [])
    for (const fact of kind.facts) if (fact.line && !facts.has(fact.name)) facts.set(fact.name, fact);
  for (const fact of facts.values())
    own.push({
      id: fact.name,
      label: fact.label,
      width: 120,
      number: false,
      down: fact.order === "down",
      words: (member) => factWords(fact, member.facts[fact.name]),
    });
  own.push(
    {
      id: "bytes",
      label: "Bytes",
      width: 86,
      number: true,
      down: true,
      words: ({ real }) => rounded(real),
    },
    {
      id: "stored",
      label: "Stored",
      width: 86,
      number: true,
      down: true,
      words: ({ stored }) => rounded(stored),
    },
  );
  return own;
}

/** What a column says of an item. */
export function cell(column: ListColumn, member: Member): string {
  return column.words(member) ?? "";
}

const KEPT = "brae.list-columns";
const USUAL = ["kind", "dimensions", "format", "bytes"];

export function keptColumns(): string[] {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(KEPT) ?? "null");
    return Array.isArray(kept) ? kept.map(String) : USUAL;
  } catch {
    return USUAL;
  }
}

export function keepColumns(ids: string[]) {
  localStorage.setItem(KEPT, JSON.stringify(ids));
}

/** The order after a click on a column's head: its usual one, then the other way round. */
export function nextOrder(order: string, id: string): string {
  return order === id ? `-${id}` : id;
}

/** Whether a column goes up or down in an order; null where the order is by something else. */
export function directionOf(order: string, column: { id: string; down: boolean }): "up" | "down" | null {
  if (order === column.id) return column.down ? "down" : "up";
  if (order === `-${column.id}`) return column.down ? "up" : "down";
  return null;
}
