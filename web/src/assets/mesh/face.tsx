/** Models: as the server draws them on tiles; on their page in the light, to be turned. */
import { Box } from "lucide-react";
import { lazy } from "react";
import { many } from "../../lib/format";
import type { Face } from "../face";
import { plain } from "../plain";

const face: Face = {
  ...plain,
  icon: Box,
  summary: (member) =>
    typeof member.facts.triangles === "number" ? many(member.facts.triangles, "triangle") : "model",
  Compare: lazy(() => import("./Compare")),
  Forms: lazy(() => import("./Forms")),
};
export default face;
