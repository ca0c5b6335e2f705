/** Sounds: heard before they are chosen, at a safe loudness. */
import { AudioLines } from "lucide-react";
import { previewUrl } from "../../api/client";
import { plain, ShownSound } from "../plain";
import type { Face } from "../registry";

const face: Face = {
  ...plain,
  icon: AudioLines,
  Tile: () => <AudioLines aria-hidden className="size-1/3 text-[#161616]" strokeWidth={1.3} />,
  summary: ({ facts }) =>
    [
      facts.seconds === undefined ? null : `${Number(facts.seconds).toFixed(1)} s`,
      facts.codec === undefined ? "sound" : String(facts.codec).toUpperCase(),
    ]
      .filter(Boolean)
      .join(" "),
  Large: ({ project, member, opened }) => (
    <ShownSound url={previewUrl(project, member.address, { revision: opened })} />
  ),
};
export default face;
