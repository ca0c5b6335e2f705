/** Sounds: a waveform on the tile, heard at a loudness that hurts nobody, original and edit on one time axis. */
import { AudioLines } from "lucide-react";
import { lazy } from "react";
import { previewUrl } from "../../api/client";
import type { Face } from "../face";
import { ShownSound } from "../plain";
import { Strip } from "./Strip";

function Wave({ url }: { url: string }) {
  return <img alt="" loading="lazy" decoding="async" draggable={false} className="size-full" src={url} />;
}

const face: Face = {
  icon: AudioLines,
  Tile: ({ project, member, side, opened }) => (
    <Strip sound={previewUrl(project, member.address, { revision: opened })} side={side}>
      <Wave
        url={previewUrl(project, member.address, {
          view: "wave",
          width: side > 64 ? 256 : 64,
          height: side > 64 ? 256 : 64,
          revision: opened,
        })}
      />
    </Strip>
  ),
  summary: ({ facts }) =>
    [
      facts.seconds === undefined ? null : `${Number(facts.seconds).toFixed(1)} s`,
      facts.codec === undefined ? "sound" : String(facts.codec).toUpperCase(),
    ]
      .filter(Boolean)
      .join(" "),
  Large: ({ project, member, opened }) => (
    <div className="grid w-full grid-cols-[minmax(0,1fr)] gap-3">
      <img
        alt={`The waveform of ${member.name}`}
        className="h-28 w-full"
        src={previewUrl(project, member.address, {
          view: "wave",
          width: 512,
          height: 224,
          revision: opened,
        })}
      />
      <ShownSound url={previewUrl(project, member.address, { revision: opened })} />
    </div>
  ),
  Small: ({ project, edit, which }) => (
    <Wave
      url={previewUrl(project, edit.address, {
        which: edit.position ? which : "original",
        view: "wave",
        width: 128,
        height: 128,
        revision: edit.revision,
      })}
    />
  ),
  Compare: lazy(() => import("./Compare")),
};
export default face;
