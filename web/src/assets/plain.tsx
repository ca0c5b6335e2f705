/** The face of a kind that has none of its own here: what the server's preview of it gives. */
import { useQuery } from "@tanstack/react-query";
import { Shapes } from "lucide-react";
import { type Edit, type Member, previewUrl } from "../api/client";
import type { Face } from "./face";
import { type Kind, useKind } from "./kinds";

type Media = Kind["preview"];
const SAFE_LOUDNESS = 0.3;

/** A preview of a kind, by what the server says that it is. */
function Shown({ kind, url, small = false }: { kind: string; url: string; small?: boolean }) {
  const media: Media = useKind(kind)?.preview ?? "none";
  if (media === "image") return <ShownImage url={url} small={small} />;
  if (small) return <Shapes aria-hidden className="m-auto size-1/2 text-[#161616]" strokeWidth={1.3} />;
  if (media === "text") return <ShownText url={url} />;
  if (media === "audio") return <ShownSound url={url} />;
  return <p className="p-4 text-center text-[#161616]">There is no preview of this item.</p>;
}

function Compare({ project, edit }: { project: string; edit: Edit }) {
  return (
    <div className="flex h-full gap-2">
      {(["original", "edit"] as const).slice(0, edit.position ? 2 : 1).map((which) => (
        <figure key={which} className="ground grid min-w-0 flex-1 place-items-center rounded-xl p-3">
          <Shown kind={edit.kind} url={urlOf(project, edit, which)} />
          <figcaption className="rounded bg-raised/90 px-2 text-[13.5px]">{which}</figcaption>
        </figure>
      ))}
    </div>
  );
}

export const plain: Face = {
  icon: Shapes,
  Tile: ({ project, member, opened }) => (
    <Shown kind={member.kind} url={previewUrl(project, member.address, { revision: opened })} small />
  ),
  summary: (member: Member) => member.kind,
  Large: ({ project, member, opened }) => (
    <Shown kind={member.kind} url={previewUrl(project, member.address, { revision: opened })} />
  ),
  Small: ({ project, edit, which }) => <Shown kind={edit.kind} url={urlOf(project, edit, which)} small />,
  Compare,
};

function urlOf(project: string, edit: Edit, which: "original" | "edit"): string {
  return previewUrl(project, edit.address, {
    which: edit.position ? which : "original",
    revision: edit.revision,
  });
}

function ShownImage({ url, small = false }: { url: string; small?: boolean }) {
  return (
    <img
      alt=""
      loading="lazy"
      className={`max-h-full max-w-full object-contain ${small ? "pixelated size-full" : "max-h-80"}`}
      src={url}
    />
  );
}

/** A text from a preview, scrolling. */
export function ShownText({ url }: { url: string }) {
  const { data } = useQuery({
    queryKey: ["text", url],
    queryFn: async () => (await fetch(url)).text(),
  });
  return (
    <pre
      // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling text must be reachable by keyboard
      tabIndex={0}
      className="max-h-60 min-h-24 w-full overflow-auto rounded-lg bg-raised p-3 text-[13.5px] whitespace-pre-wrap text-ink"
    >
      {data ?? ""}
    </pre>
  );
}

/** Every player starts quietly, also one that takes the place of another. */
function quiet(player: HTMLAudioElement | null): void {
  if (player) player.volume = SAFE_LOUDNESS;
}

/** A sound from a preview; it never starts louder than a third. */
export function ShownSound({ url }: { url: string }) {
  return (
    <div className="grid w-full grid-cols-[minmax(0,1fr)] gap-2">
      {/* biome-ignore lint/a11y/useMediaCaption: a game's sound effect has no captions */}
      <audio ref={quiet} key={url} controls preload="none" src={url} className="w-full max-w-80 min-w-0" />
      <p className="text-[13.5px] text-[#161616]">
        Played at a safe loudness; starts at a third of your speakers.
      </p>
    </div>
  );
}
