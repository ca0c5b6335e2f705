import { type ReactNode, useState } from "react";
import { count } from "../lib/format";

/** The first of many, and a button that shows the rest; null where there are no more. */
export function useFirst<Item>(items: readonly Item[], most: number): [readonly Item[], ReactNode] {
  const [all, setAll] = useState(false);
  if (all || items.length <= most) return [items, null];
  return [
    items.slice(0, most),
    <button
      key="rest"
      type="button"
      className="py-1 underline underline-offset-4"
      onClick={() => setAll(true)}
    >
      Show all {count(items.length)}
    </button>,
  ];
}
