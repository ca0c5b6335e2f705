/** The items of a catalogue as a collection that nobody has to load: each by its place. */
import type { Collection, Key, KeyboardDelegate, Node } from "@react-types/shared";
import type { Member } from "../../api/client";
import { baseName } from "../../lib/format";
import type { Rows } from "../../lib/rows";

/** What is chosen: places in the catalogue, or all of it. */
export type Selection = "all" | ReadonlySet<Key>;

export const NONE: Selection = new Set();

/** How many items are chosen. */
export function chosenOf(selection: Selection, total: number): number {
  return selection === "all" ? total : selection.size;
}

/** Places as spans from first to last, such as 0-3 and 7-7. */
export function spans(selection: ReadonlySet<Key>): string[] {
  const places = [...selection].map(Number).sort((a, b) => a - b);
  const found: [number, number][] = [];
  for (const place of places) {
    const last = found.at(-1);
    if (last && place === last[1] + 1) last[1] = place;
    else found.push([place, place]);
  }
  return found.map(([first, last]) => `${first}-${last}`);
}

/** The same, as text in the address of the page and back; "" where nothing but one item is chosen, or too much. */
export function spansText(selection: Selection): string {
  if (selection === "all") return "all";
  if (selection.size < 2) return "";
  const text = spans(selection).join(",");
  return text.length <= LONGEST ? text : "";
}

const LONGEST = 600;
const MOST = 100_000;

export function ofSpansText(text: string, total: number): Selection {
  if (text === "all") return "all";
  const chosen = new Set<Key>();
  for (const [, first, last] of text.matchAll(/(\d{1,9})-(\d{1,9})/g))
    for (let at = Number(first); at <= Math.min(Number(last), total - 1) && chosen.size < MOST; at += 1)
      chosen.add(at);
  return chosen;
}

type At = (place: number) => Member | undefined;

/** As many items as there are; what is known of one is asked when it is wanted. */
export class Places implements Collection<Node<Member>> {
  constructor(
    readonly size: number,
    private readonly memberAt: At,
  ) {}

  *getKeys() {
    for (let place = 0; place < this.size; place += 1) yield place;
  }

  *[Symbol.iterator]() {
    for (let place = 0; place < this.size; place += 1) yield this.node(place);
  }

  getItem(key: Key) {
    const place = Number(key);
    return Number.isInteger(place) && place >= 0 && place < this.size ? this.node(place) : null;
  }

  at(place: number) {
    return this.getItem(place);
  }

  getKeyBefore(key: Key) {
    return Number(key) > 0 ? Number(key) - 1 : null;
  }

  getKeyAfter(key: Key) {
    return Number(key) + 1 < this.size ? Number(key) + 1 : null;
  }

  getFirstKey() {
    return this.size ? 0 : null;
  }

  getLastKey() {
    return this.size ? this.size - 1 : null;
  }

  private node(place: number): Node<Member> {
    const member = this.memberAt(place);
    return {
      type: "item",
      key: place,
      value: member ?? null,
      level: 0,
      hasChildNodes: false,
      childNodes: [],
      rendered: null,
      textValue: member ? baseName(member.name) : "",
      index: place,
      props: {},
    };
  }
}

/** Where the keys lead on a table; `page` is how many of its rows are in sight. */
export class OnTable implements KeyboardDelegate {
  constructor(
    private readonly places: Places,
    private readonly rows: Rows,
    private readonly page: number,
  ) {}

  private step(key: string, from: Key) {
    const place = Number(from);
    const next = this.rows.move(key, place, this.page);
    return next === place ? null : next;
  }

  getKeyBelow(key: Key) {
    return this.step("ArrowDown", key);
  }
  getKeyAbove(key: Key) {
    return this.step("ArrowUp", key);
  }
  getKeyLeftOf(key: Key) {
    return this.step("ArrowLeft", key);
  }
  getKeyRightOf(key: Key) {
    return this.step("ArrowRight", key);
  }
  getKeyPageBelow(key: Key) {
    return this.step("PageDown", key);
  }
  getKeyPageAbove(key: Key) {
    return this.step("PageUp", key);
  }
  getFirstKey() {
    return this.places.getFirstKey();
  }
  getLastKey() {
    return this.places.getLastKey();
  }
}

/** Letters typed one after the other; after a second of rest they begin anew. */
export class Typing {
  private typed = "";
  private last = Number.NEGATIVE_INFINITY;

  /** All that was typed with this key, or null where the key is no part of a name. */
  with(key: string, now: number): string | null {
    if (now - this.last > 1000) this.typed = "";
    // The slash leads to the search.
    if ([...key].length !== 1 || key === "/" || (key === " " && this.typed === "")) return null;
    this.last = now;
    this.typed += key;
    return this.typed;
  }
}
