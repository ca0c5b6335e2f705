/** Textures: pictures on the light table, compared pixel by pixel. */
import { Images } from "lucide-react";
import { lazy } from "react";
import { type Edit, type Member, previewUrl } from "../../api/client";
import type { Face } from "../face";
import { Halves } from "./Halves";
import { Maps } from "./Maps";

/** Bytes of a file that may be the small end of a picture that lies elsewhere. */
const SMALL_END = 1280;

const sides = ({ facts }: Member) => [Number(facts.width ?? 1), Number(facts.height ?? 1)] as const;

function Tile({
  project,
  member,
  side,
  opened,
}: {
  project: string;
  member: Member;
  side: number;
  opened: string;
}) {
  // Small pictures are enlarged by whole steps, so that every pixel stays square.
  const [width, height] = sides(member);
  const step = Math.floor((side - 12) / Math.max(width, height));
  // As many pixels as the tile shows, no more: hundreds of them are fetched at a time.
  const fit = side * window.devicePixelRatio > 150 ? 256 : 128;
  const scale = step > 1 ? step : Math.min(1, (side - 12) / Math.max(width, height));
  return (
    <img
      loading="lazy"
      decoding="async"
      alt=""
      draggable={false}
      width={Math.max(1, Math.round(width * scale))}
      height={Math.max(1, Math.round(height * scale))}
      className={`max-h-full max-w-full object-contain ${step > 1 ? "pixelated" : ""}`}
      src={previewUrl(project, member.address, { fit, revision: opened })}
    />
  );
}

function small(project: string, edit: Edit, which: "original" | "edit") {
  return previewUrl(project, edit.address, {
    which: edit.position ? which : "original",
    fit: 256,
    revision: edit.revision,
  });
}

const face: Face = {
  icon: Images,
  Tile,
  summary: (member) =>
    `${member.facts.width ?? "?"}×${member.facts.height ?? "?"} ${String(member.facts.format ?? "").toUpperCase()}`,
  inPart: ({ facts }) => facts.beyond !== undefined,
  Large: ({ project, member, opened }) => {
    const [width, height] = sides(member);
    return (
      <img
        alt={`The texture ${member.name}`}
        className={`max-h-60 max-w-full ${Math.max(width, height) <= 128 ? "pixelated w-52" : ""} object-contain`}
        src={previewUrl(project, member.address, { fit: 512, revision: opened })}
      />
    );
  },
  More: ({ project, member, opened, onSearch }) => (
    <>
      {(member.facts.beyond !== undefined || member.real <= SMALL_END) && (
        <Halves project={project} address={member.address} />
      )}
      <Maps project={project} address={member.address} opened={opened} onSearch={onSearch} />
    </>
  ),
  Small: ({ project, edit, which }) => (
    <img alt={which} className="size-full object-contain" src={small(project, edit, which)} />
  ),
  Compare: lazy(() => import("./Editing")),
  Guess: lazy(() => import("./Guess")),
  Forms: lazy(() => import("./Forms")),
};
export default face;
