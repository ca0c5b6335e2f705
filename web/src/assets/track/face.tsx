/** Voice tracks: words and phonemes over their sound, and the mouth that moves by them. */
import { Speech } from "lucide-react";
import { lazy } from "react";
import type { Face } from "../face";
import text from "../text/face";

const face: Face = {
  icon: Speech,
  Tile: text.Tile,
  summary: () => "words and phonemes",
  Large: text.Large,
  Small: text.Small,
  Compare: lazy(() => import("./Compare")),
};
export default face;
