/** Models: as the server draws them, lit from the left. */
import { Box } from "lucide-react";
import { many } from "../../lib/format";
import type { Face } from "../face";
import { plain } from "../plain";

const face: Face = {
  ...plain,
  icon: Box,
  summary: (member) =>
    typeof member.facts.triangles === "number" ? many(member.facts.triangles, "triangle") : "model",
};
export default face;
