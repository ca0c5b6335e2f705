/** Sprites: they play under the pointer on the light table, and beside their edits. */
import { PersonStanding } from "lucide-react";
import { lazy, useState } from "react";
import { previewUrl } from "../../api/client";
import { many } from "../../lib/format";
import type { Face } from "../face";

const Player = lazy(() => import("./Playing"));

/** A frame; while the pointer is on it, the first sequence. */
function Playing({ still, moving, side }: { still: string; moving: string; side?: number }) {
  const [over, setOver] = useState(false);
  return (
    <img
      alt=""
      loading="lazy"
      decoding="async"
      draggable={false}
      onPointerEnter={() => setOver(true)}
      onPointerLeave={() => setOver(false)}
      style={side === undefined ? undefined : { width: side - 12, height: side - 12 }}
      className={`pixelated object-contain ${side === undefined ? "size-full p-1" : ""}`}
      src={over ? moving : still}
    />
  );
}

const face: Face = {
  icon: PersonStanding,
  Tile: ({ project, member, side, opened }) => (
    <Playing
      side={side}
      still={previewUrl(project, member.address, { side: 256, revision: opened })}
      moving={previewUrl(project, member.address, { view: "play", side: 256, revision: opened })}
    />
  ),
  summary: ({ facts }) => (typeof facts.frames === "number" ? many(facts.frames, "frame") : "sprite"),
  Large: ({ project, member, opened }) => (
    <Player project={project} address={member.address} revision={opened} sides={["original"]} />
  ),
  Small: ({ project, edit, which }) => {
    const query = { which: edit.position ? which : "original", revision: edit.revision, side: 256 };
    return (
      <Playing
        still={previewUrl(project, edit.address, query)}
        moving={previewUrl(project, edit.address, { ...query, view: "play" })}
      />
    );
  },
  Compare: lazy(() => import("./Compare")),
  Forms: lazy(() => import("./Forms")),
};
export default face;
