/** Texts: their first lines on the tile, original and edit line by line. */
import { useQuery } from "@tanstack/react-query";
import { FileText } from "lucide-react";
import { lazy } from "react";
import { previewUrl } from "../../api/client";
import type { Face } from "../face";
import { ShownText } from "../plain";

const FIRST = 400;

/** The first lines, small: enough to tell one text from another. */
function Lines({ url }: { url: string }) {
  const { data } = useQuery({
    queryKey: ["text", url],
    queryFn: async () => (await fetch(url)).text(),
    staleTime: Number.POSITIVE_INFINITY,
  });
  return (
    <span
      aria-hidden
      className="block size-full overflow-hidden rounded bg-raised p-2 text-left text-[10.5px] leading-[1.35] break-words whitespace-pre-wrap text-ink"
    >
      {data ?? ""}
    </span>
  );
}

const face: Face = {
  icon: FileText,
  Tile: ({ project, member, opened }) => (
    <Lines url={previewUrl(project, member.address, { most: FIRST, revision: opened })} />
  ),
  summary: ({ facts }) => (facts.encoding ? String(facts.encoding).toUpperCase() : "text"),
  Large: ({ project, member, opened }) => (
    <ShownText url={previewUrl(project, member.address, { revision: opened })} />
  ),
  Small: ({ project, edit, which }) => (
    <Lines
      url={previewUrl(project, edit.address, {
        which: edit.position ? which : "original",
        most: FIRST,
        revision: edit.revision,
      })}
    />
  ),
  Compare: lazy(() => import("./Compare")),
};
export default face;
