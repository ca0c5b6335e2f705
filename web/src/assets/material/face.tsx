/** Materials: what their textures are and how they take the light; the text beside it. */
import { Paintbrush } from "lucide-react";
import { lazy } from "react";
import type { Face } from "../face";
import text from "../text/face";

const face: Face = {
  icon: Paintbrush,
  Tile: text.Tile,
  summary: ({ facts }) => String(facts.textures ?? facts.shader ?? "material"),
  Large: text.Large,
  Small: text.Small,
  Compare: lazy(() => import("./Compare")),
};
export default face;
