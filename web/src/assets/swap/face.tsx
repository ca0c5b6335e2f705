/** Swap lists: what stands in for what, as a table. */
import { ArrowLeftRight } from "lucide-react";
import { lazy } from "react";
import { many } from "../../lib/format";
import type { Face } from "../face";
import text from "../text/face";

const face: Face = {
  icon: ArrowLeftRight,
  Tile: text.Tile,
  summary: ({ facts }) => (typeof facts.swaps === "number" ? many(facts.swaps, "swap") : "swap list"),
  Large: text.Large,
  Small: text.Small,
  Compare: lazy(() => import("./Compare")),
};
export default face;
