import { useQuery } from "@tanstack/react-query";
import { Package } from "lucide-react";
import { useEffect, useRef } from "react";
import { Link } from "react-router";
import { bytesUrl, client, type Member, pictureUrl, take } from "../../api/client";
import { useItem } from "../../api/queries";
import { Button, Copyable, Facts } from "../../components/controls";
import { bytes, count } from "../../lib/format";
import { Maps } from "./Maps";

const SAFE_LOUDNESS = 0.3;

/** The item under the cursor, larger, with all that is known of it. */
export function Detail({
  project,
  member,
  opened,
  onEdit,
  onFolder,
  onSearch,
}: {
  project: string;
  member: Member;
  opened: string;
  onEdit: () => void;
  onFolder: (folder: string) => void;
  onSearch: (name: string) => void;
}) {
  const { data } = useItem(project, member.address);
  const editable = member.kind === "texture" && !member.fault;
  return (
    <aside
      className="flex w-[304px] shrink-0 flex-col gap-3 overflow-auto px-4 pt-1 pb-4"
      aria-label="Chosen item"
    >
      <div className="ground grid min-h-40 shrink-0 place-items-center rounded-xl p-3">
        {editable ? (
          <img
            alt={`The texture ${member.name}`}
            className={`max-h-60 max-w-full ${Math.max(member.width ?? 0, member.height ?? 0) <= 128 ? "pixelated w-52" : ""} object-contain`}
            src={pictureUrl(project, member.address, { fit: 512, revision: opened })}
          />
        ) : member.kind === "sound" ? (
          <Sound src={bytesUrl(project, member.address)} />
        ) : member.kind === "text" ? (
          <TextPreview project={project} address={member.address} />
        ) : member.kind === "archive" ? (
          <Package aria-hidden className="size-20 text-[#161616]" strokeWidth={1} />
        ) : (
          <p className="p-4 text-center text-[#161616]">
            {member.kind === "levels"
              ? "The larger levels of a texture: they are shown and edited with it."
              : "No picture of this item."}
          </p>
        )}
      </div>
      {editable && (
        <Button look="act" onClick={onEdit}>
          {member.edit ? "Look at the edit" : "Put in work"}
        </Button>
      )}
      {member.kind === "data" && (
        <Link
          to={`/p/${project}/guess?item=${encodeURIComponent(member.address)}`}
          className="rounded-lg bg-sunk px-3.5 py-1.5 text-center hover:bg-line"
        >
          Look for a picture in it
        </Link>
      )}
      {member.kind === "archive" && (
        <Button look="act" onClick={() => onFolder(member.address.split("//").slice(1).join("/"))}>
          Show what is in it
        </Button>
      )}
      {editable && <Maps project={project} address={member.address} opened={opened} onSearch={onSearch} />}
      {member.winner && (
        <p className="rounded-lg bg-rust-soft p-3">
          The game does not use this copy. It uses <Copyable value={member.winner} className="text-[14px]" />
        </p>
      )}
      {member.fault && <p className="rounded-lg bg-rust-soft p-3">{member.fault}</p>}
      <h2 className="text-[17px] leading-snug font-bold break-all">{member.name}</h2>
      <Facts
        rows={[
          member.width ? ["Sides", `${member.width} × ${member.height}`] : null,
          member.format ? ["Pixel format", member.format.toUpperCase()] : null,
          member.levels
            ? ["Mip levels", member.levels === 1 ? "none but itself" : String(member.levels)]
            : null,
          member.orientation === "bottom-up" ? ["Rows", "stored upside down"] : null,
          member.container ? ["File type", member.container] : null,
          [
            "Bytes",
            <Copyable key="b" value={String(member.real)}>
              {bytes(member.real)}
            </Copyable>,
          ],
          ["Stored", member.packer === "none" ? "as it is" : `${count(member.stored)}, ${member.packer}`],
          data?.offset != null
            ? [
                "Offset",
                <Copyable key="o" value={String(data.offset)}>
                  {count(data.offset)}
                </Copyable>,
              ]
            : null,
          linked("Refers to", data?.refers_to, onSearch),
          linked("Used by", data?.used_by, onSearch),
          ["Address", <Copyable key="a" value={member.address} className="text-[14px]" />],
        ]}
      />
      <a
        className="text-quiet underline underline-offset-4"
        href={bytesUrl(project, member.address, true)}
        download
      >
        Download its bytes
      </a>
    </aside>
  );
}

const MOST_LINKED = 6;

/** Other items by their names, each a way to it; nothing where there are none. */
function linked(words: string, addresses: string[] | undefined, onSearch: (name: string) => void) {
  if (!addresses?.length) return null;
  const names = addresses.map((address) => address.split("//").pop() ?? address);
  return [
    words,
    <span key={words} className="grid justify-items-start gap-1">
      {names.slice(0, MOST_LINKED).map((name, number) => (
        <button
          // biome-ignore lint/suspicious/noArrayIndexKey: an item can be referred to twice
          key={`${name} ${number}`}
          type="button"
          className="break-all text-left underline underline-offset-4"
          onClick={() => onSearch(name)}
        >
          {name}
        </button>
      ))}
      {names.length > MOST_LINKED && <span>and {count(names.length - MOST_LINKED)} more</span>}
    </span>,
  ] as [string, React.ReactNode];
}

function Sound({ src }: { src: string }) {
  const player = useRef<HTMLAudioElement>(null);
  useEffect(() => {
    if (player.current) player.current.volume = SAFE_LOUDNESS;
  }, []);
  return (
    <div className="grid gap-2">
      {/* biome-ignore lint/a11y/useMediaCaption: a game's sound effect has no captions */}
      <audio ref={player} key={src} controls preload="none" src={src} className="w-60" />
      <p className="text-[13.5px] text-[#161616]">Starts at a third of full loudness.</p>
    </div>
  );
}

function TextPreview({ project, address }: { project: string; address: string }) {
  const { data } = useQuery({
    queryKey: ["text", project, address],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/text", {
          params: { path: { project_id: project }, query: { address } },
        }),
      ),
  });
  return (
    <pre
      // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling text must be reachable by keyboard
      tabIndex={0}
      className="max-h-60 w-full overflow-auto rounded-lg bg-raised p-3 text-[13.5px] whitespace-pre-wrap text-ink"
    >
      {data?.text ?? ""}
    </pre>
  );
}
