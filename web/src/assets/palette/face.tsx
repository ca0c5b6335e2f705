/** Palettes: a strip of their entries; changed one by one, and what that does to others. */
import { Palette } from "lucide-react";
import { lazy } from "react";
import { previewUrl } from "../../api/client";
import { many } from "../../lib/format";
import type { Face } from "../face";

const face: Face = {
  icon: Palette,
  Tile: ({ project, member, side, opened }) => (
    <img
      alt=""
      loading="lazy"
      draggable={false}
      style={{ width: side - 12, height: side - 12 }}
      className="pixelated object-contain"
      src={previewUrl(project, member.address, { side: 8, revision: opened })}
    />
  ),
  summary: ({ facts }) => (typeof facts.entries === "number" ? many(facts.entries, "colour") : "palette"),
  Large: ({ project, member, opened }) => (
    <img
      alt={`The colours of ${member.name}`}
      className="pixelated w-full max-w-64"
      src={previewUrl(project, member.address, { side: 16, revision: opened })}
    />
  ),
  Small: ({ project, edit, which }) => (
    <img
      alt={which}
      className="pixelated size-full object-contain"
      src={previewUrl(project, edit.address, {
        which: edit.position ? which : "original",
        side: 8,
        revision: edit.revision,
      })}
    />
  ),
  Compare: lazy(() => import("./Compare")),
  Forms: lazy(() => import("./Spoilt")),
};
export default face;
