import { ImageUp, X } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { previewUrl, type Schemas } from "../../api/client";
import { useLike, useLookFor } from "../../api/queries";
import { Button } from "../../components/controls";
import { count, many } from "../../lib/format";

/** A picture to look for: chosen from a file, pasted, or dropped on what lies below. */
export function ByPicture({
  project,
  onFound,
  children,
}: {
  project: string;
  onFound: (like: string) => void;
  children: (button: React.ReactNode) => React.ReactNode;
}) {
  const chooser = useRef<HTMLInputElement>(null);
  const [over, setOver] = useState(false);
  const lookFor = useLookFor(project);
  const look = (file: File | undefined) =>
    file && lookFor.mutate(file, { onSuccess: ({ id }) => onFound(id) });
  const paste = useRef(look);
  paste.current = look;
  useEffect(() => {
    const pasted = (event: ClipboardEvent) => {
      const file = [...(event.clipboardData?.files ?? [])].find(({ type }) => type.startsWith("image/"));
      if (!file) return;
      event.preventDefault();
      paste.current(file);
    };
    window.addEventListener("paste", pasted);
    return () => window.removeEventListener("paste", pasted);
  }, []);
  return (
    <section
      className={`relative flex min-h-0 min-w-0 flex-1 flex-col ${over ? "outline-3 -outline-offset-4 outline-gorse" : ""}`}
      aria-label="Catalogue"
      onDragOver={(event) => {
        if (!event.dataTransfer.types.includes("Files")) return;
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={(event) => {
        if (!event.currentTarget.contains(event.relatedTarget as Node | null)) setOver(false);
      }}
      onDrop={(event) => {
        event.preventDefault();
        setOver(false);
        look(event.dataTransfer.files[0]);
      }}
    >
      {children(
        <>
          <button
            type="button"
            aria-label="Find by a picture"
            title="Find what a screenshot or any other picture shows; you can paste it or drop it here, too"
            className="rounded-md p-1 text-quiet hover:bg-sunk hover:text-ink"
            onClick={() => chooser.current?.click()}
            disabled={lookFor.isPending}
          >
            <ImageUp aria-hidden className="size-5" />
          </button>
          <input
            ref={chooser}
            type="file"
            accept="image/*,.dds,.ktx2,.tga,.exr,.hdr"
            className="hidden"
            aria-label="Picture to look for"
            onChange={(event) => {
              look(event.target.files?.[0]);
              event.target.value = "";
            }}
          />
        </>,
      )}
      {over && (
        <p className="pointer-events-none absolute inset-x-0 top-24 z-10 mx-auto w-fit rounded-xl bg-raised px-5 py-3 shadow-lg">
          Drop a picture to find the items that it shows
        </p>
      )}
    </section>
  );
}

type Found = Schemas["LikeFound"];

/** The picture that is looked for beside the item under the cursor, with the place where one shows the other. */
export function LookedFor({
  project,
  like,
  current,
  opened,
  onEnd,
}: {
  project: string;
  like: string;
  current: string | undefined;
  opened: string;
  onEnd: () => void;
}) {
  const { data, error } = useLike(project, like);
  const found = data?.found.find(({ address }) => address === current);
  return (
    <div className="mx-4 mb-3 flex flex-wrap items-center gap-4 rounded-xl bg-sunk p-3" role="note">
      {data && (
        <Marked
          src={`/api/projects/${encodeURIComponent(project)}/likes/${like}/picture`}
          alt="The picture that you look for"
          place={found?.how === "inside" ? found.place : []}
        />
      )}
      {found?.how === "part" && (
        <Marked
          src={previewUrl(project, found.address, { fit: 256, revision: opened })}
          alt="The item, and the part of it that you look for"
          place={found.place}
        />
      )}
      <p className="min-w-44 flex-1" role="status">
        {error ? error.message : wordsOf(data, found)}
      </p>
      <Button onClick={onEnd}>
        <X aria-hidden className="size-4" /> Show all items
      </Button>
    </div>
  );
}

function wordsOf(data: Schemas["LikeView"] | undefined, found: Found | undefined): string {
  if (data?.fault) return data.fault;
  if (!data?.ready)
    return "Looking for it. The first time each picture of the game is looked at, which takes a moment.";
  if (data.found.length === 0)
    return `None of the ${count(data.searched)} pictures of this game looks like it. A smaller part of the screenshot, with little else on it, may do.`;
  const total = `${many(data.found.length, "item")} of ${count(data.searched)}, what is most like it first.`;
  if (!found) return total;
  const how = {
    whole: found.flip ? `looks like it when it is turned (${found.flip})` : "looks like it as a whole",
    part: "has a part that looks like it, which is marked",
    inside: "appears in it, where it is marked",
  }[found.how];
  return `${total} This one ${how}: ${Math.round(found.score * 100)} %.`;
}

/** A picture with an outline; the corners are shares of its sides. */
function Marked({ src, alt, place }: { src: string; alt: string; place: Found["place"] }) {
  const corners = place.map(({ x, y }) => `${x},${y}`).join(" ");
  return (
    <span className="ground relative inline-block rounded-lg">
      <img src={src} alt={alt} className="block h-28 max-w-64 object-contain" />
      {place.length > 0 && (
        <svg
          className="absolute inset-0 size-full"
          viewBox="0 0 1 1"
          preserveAspectRatio="none"
          aria-hidden="true"
        >
          {/* Dark below light, so that it shows on any picture. */}
          {(
            [
              ["#161616", 5],
              ["#f2c230", 2.5],
            ] as const
          ).map(([colour, width]) => (
            <polygon
              key={colour}
              points={corners}
              fill="none"
              stroke={colour}
              strokeWidth={width}
              vectorEffect="non-scaling-stroke"
            />
          ))}
        </svg>
      )}
    </span>
  );
}
