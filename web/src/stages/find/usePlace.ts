/** The item under the cursor and what is chosen, in the address of the page: read once, written when the hands rest. */
import { useEffect, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { client, take } from "../../api/client";
import { NONE, ofSpansText, type Selection, spansText } from "./selection";
import { queryOf, type Search } from "./useCatalogue";

const REST = 400;

/** What was written last: anything else in the address is somewhere to go. */
type Written = React.RefObject<string | null>;

/** Where the address leads: when the table comes into sight, and whenever it names another item; null until known. */
export function useKeptPlace(project: string, search: Search, total: number, written: Written) {
  const [params] = useSearchParams();
  const item = params.get("item");
  const chosen = params.get("chosen") ?? "";
  const [kept, setKept] = useState<{ place: number | null; chosen: Selection } | null>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: asked when it is known how many items there are, and for another item
  useEffect(() => {
    if (total === 0 || (kept !== null && (!item || item === written.current))) return;
    const known = (place: number | null) => {
      const those = ofSpansText(chosen, total);
      // Places say nothing once the game is listed otherwise: they hold where the item is still among them.
      const same = those === "all" || (place !== null && those.has(place));
      setKept({ place, chosen: same ? those : NONE });
    };
    if (!item) known(null);
    else
      take(
        client.GET("/api/projects/{project_id}/place", {
          params: { path: { project_id: project }, query: { ...queryOf(search), address: item } },
        }),
      ).then(known, () => known(null));
  }, [total, item]);
  return kept;
}

/** Keep them there. */
export function useKeepPlace(
  item: string | undefined,
  selection: Selection,
  ready: boolean,
  written: Written,
) {
  const [, setParams] = useSearchParams();
  const chosen = spansText(selection);
  const latest = useRef(setParams);
  latest.current = setParams;
  useEffect(() => {
    if (!ready) return;
    const here = whereabouts();
    const timer = setTimeout(() => {
      // On the way to another stage or search this table is still there for a moment: nobody is to be fetched back.
      if (whereabouts() !== here) return;
      written.current = item ?? "";
      // What the browser says: the page's own parameters are those of the last drawing.
      const next = new URLSearchParams(window.location.search);
      for (const [name, value] of [
        ["item", item ?? ""],
        ["chosen", chosen],
      ] as const)
        if (value) next.set(name, value);
        else next.delete(name);
      latest.current(next, { replace: true, preventScrollReset: true });
    }, REST);
    return () => clearTimeout(timer);
  }, [item, chosen, ready, written]);
}

/** The address of the page without the place in the table. */
function whereabouts(): string {
  const search = new URLSearchParams(window.location.search);
  search.delete("item");
  search.delete("chosen");
  return `${window.location.pathname}?${search}`;
}
