import { Package } from "lucide-react";
import { Suspense } from "react";
import { Link } from "react-router";
import { BY_SIGNS, bytesUrl, type Member } from "../../api/client";
import { useItem } from "../../api/queries";
import { useKind, useKinds } from "../../assets/kinds";
import { canEdit, faceOf, factWords } from "../../assets/registry";
import { Button, Copyable, Facts } from "../../components/controls";
import { NewItem } from "../../components/NewItem";
import { bytes, count } from "../../lib/format";
import { Lines, Links, Places } from "./Links";
import { Marks } from "./Marks";
import { Together } from "./Together";

/** The item under the cursor, larger, with all that is known of it. */
export function Detail({
  project,
  member,
  opened,
  alone,
  q,
  onEdit,
  onFolder,
  onSearch,
  onGo,
  onTakeAway,
}: {
  project: string;
  member: Member;
  opened: string;
  /** whether no others are chosen beside it */
  alone: boolean;
  /** the words that are searched */
  q: string;
  onEdit: () => void;
  onFolder: (folder: string) => void;
  onSearch: (name: string) => void;
  onGo: (address: string) => void;
  onTakeAway: () => void;
}) {
  const { data } = useItem(project, member.address);
  const kind = useKind(member.kind);
  const kinds = useKinds().data?.kinds;
  const face = faceOf(member.kind);
  const editable = canEdit(kind, member);
  const facts = (kind?.facts ?? [])
    .filter((fact) => fact.line)
    .map((fact): [string, string] | null => {
      const words = factWords(fact, member.facts[fact.name]);
      return words === null ? null : [fact.label, words];
    });
  return (
    <aside
      className="flex min-h-0 flex-1 flex-col gap-3 overflow-auto pr-4 pl-2.5 pt-1 pb-4"
      aria-label="Chosen item"
    >
      <div className="ground grid min-h-66 shrink-0 grid-cols-[minmax(0,1fr)] place-items-center rounded-xl p-3">
        {kind && !member.fault ? (
          <face.Large project={project} member={member} opened={opened} />
        ) : member.kind === "archive" ? (
          <Package aria-hidden className="size-20 text-[#161616]" strokeWidth={1} />
        ) : (
          <p className="p-4 text-center text-[#161616]">
            {member.kind === "part"
              ? "A part of another item: it is shown and edited with that."
              : "No picture of this item."}
          </p>
        )}
      </div>
      {editable && (
        <Button look="act" onClick={onEdit}>
          {member.edit ? "Look at the edit" : "Edit this"}
        </Button>
      )}
      {alone && editable && <NewItem project={project} address={member.address} name={member.name} />}
      {member.made && (
        <div className="grid gap-2 rounded-lg bg-moss-soft p-3">
          <p>You made this one: the game gets it with the next build.</p>
          <Button onClick={onTakeAway}>Take it away</Button>
        </div>
      )}
      {alone && editable && kind && kind.marks.length > 0 && (
        <Marks project={project} choose={async () => [member.address]} />
      )}
      {member.kind === "data" &&
        kinds?.map(
          ({ id, headless }) =>
            headless && (
              <Link
                key={id}
                to={`/p/${project}/guess?item=${encodeURIComponent(member.address)}&kind=${id}`}
                className="rounded-lg bg-sunk px-3.5 py-1.5 text-center hover:bg-line"
              >
                {headless}
              </Link>
            ),
        )}
      {member.kind === "archive" && (
        <Button look="act" onClick={() => onFolder(member.address.split("//").slice(1).join("/"))}>
          Show what is in it
        </Button>
      )}
      {kind && !member.fault && face.More && (
        <Suspense>
          <face.More project={project} member={member} opened={opened} onSearch={onSearch} />
        </Suspense>
      )}
      {member.winner && (
        <p className="rounded-lg bg-rust-soft p-3">
          The game does not use this copy. It uses <Copyable value={member.winner} className="text-[14px]" />
        </p>
      )}
      {member.fault && <p className="rounded-lg bg-rust-soft p-3">{member.fault}</p>}
      {data?.archive.layout === BY_SIGNS && (
        <p className="text-quiet">
          Unproved: found by its sign. It can be changed in its place; nothing else of its file is known.
        </p>
      )}
      <h2 className="text-[17px] leading-snug font-bold break-all">{member.name}</h2>
      <Lines project={project} address={member.address} q={q} />
      <Places project={project} address={member.address} q={q} raw={member.kind === "data"} />
      <Links project={project} address={member.address} onSearch={onSearch} />
      <Together key={member.address} project={project} address={member.address} opened={opened} onGo={onGo} />
      <Facts
        rows={[
          ...facts,
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
