import { Link } from "react-router";
import type { components } from "../../api/generated";
import { useLines, useLinks, usePlaces } from "../../api/queries";
import { Copyable } from "../../components/controls";
import { count, many } from "../../lib/format";
import { bytesOf, textOf } from "./Searches";

type Reference = components["schemas"]["Link"];
type Missing = components["schemas"]["Missing"];

const MOST = 6;

/** The lines of a text by which it was found. */
export function Lines({ project, address, q }: { project: string; address: string; q: string }) {
  const words = textOf(q);
  const { data } = useLines(project, address, words);
  if (!words || !data?.length) return null;
  return (
    <section className="grid gap-1 rounded-lg bg-sunk p-3">
      {data.slice(0, MOST).map((one) => (
        <p key={one.place}>
          <span className="mr-2 text-quiet">{count(one.place)}</span>
          {one.line}
        </p>
      ))}
      <More all={data.length} />
    </section>
  );
}

/** Where the bytes that are searched stand in an item, with what lies around them. */
export function Places({
  project,
  address,
  q,
  raw,
}: {
  project: string;
  address: string;
  q: string;
  /** whether nothing is known of the item, so that a picture may begin at a place */
  raw: boolean;
}) {
  const holds = bytesOf(q);
  const { data } = usePlaces(project, address, holds);
  if (!holds || !data?.total) return null;
  return (
    <section className="grid gap-2 rounded-lg bg-sunk p-3" aria-label="Places">
      <h3 className="font-bold">
        {data.more ? "more than " : ""}
        {many(data.total, "place")}
        {data.total > 1 && <span className="font-normal text-quiet">: a patch needs exactly one</span>}
      </h3>
      {data.places.map((place) => (
        <div key={place.offset}>
          <Copyable value={String(place.offset)}>
            {count(place.offset)} <span className="text-quiet">0x{place.offset.toString(16)}</span>
          </Copyable>
          {raw && (
            <Link
              to={`/p/${project}/guess?item=${encodeURIComponent(address)}&kind=texture&from=${place.offset}`}
              className="ml-3 whitespace-nowrap text-quiet underline underline-offset-4"
            >
              a picture begins here
            </Link>
          )}
          <p className="font-mono text-[12.5px] break-words text-quiet">
            {place.before} <b className="text-ink">{place.found}</b> {place.after}
          </p>
        </div>
      ))}
      {data.total > data.places.length && (
        <span className="text-quiet">and {count(data.total - data.places.length)} more</span>
      )}
    </section>
  );
}

/** What an item needs, what needs it, and the names in it that lead nowhere; each is a way there. */
export function Links({
  project,
  address,
  onSearch,
}: {
  project: string;
  address: string;
  onSearch: (words: string) => void;
}) {
  const { data } = useLinks(project, address);
  if (!data) return null;
  return (
    <>
      <Several title="Uses" links={data.needs} other={(one) => one.target} onSearch={onSearch} />
      <Several title="Used by" links={data.used_by} other={(one) => one.owner} onSearch={onSearch} />
      {data.alone && (
        <p className="rounded-lg bg-sunk p-3">
          Nothing that Brae reads names it, though most beside it are named: the game may never load it.
        </p>
      )}
      {data.missing.length > 0 && (
        <section className="grid gap-1 rounded-lg bg-rust-soft p-3">
          <h3 className="font-bold">Leads nowhere</h3>
          {data.missing.slice(0, MOST).map((one) => (
            <Nowhere key={one.text} missing={one} onSearch={onSearch} />
          ))}
          <More all={data.missing.length} />
        </section>
      )}
    </>
  );
}

function Several({
  title,
  links,
  other,
  onSearch,
}: {
  title: string;
  links: Reference[];
  other: (link: Reference) => string;
  onSearch: (words: string) => void;
}) {
  if (links.length === 0) return null;
  return (
    <section className="grid justify-items-start gap-1">
      <h3 className="text-quiet">{title}</h3>
      {links.slice(0, MOST).map((link) => (
        <Way key={other(link)} address={other(link)} hint={link.line} onSearch={onSearch} />
      ))}
      <More all={links.length} />
    </section>
  );
}

function Way({
  address,
  hint,
  onSearch,
}: {
  address: string;
  hint: string;
  onSearch: (words: string) => void;
}) {
  const name = nameOf(address);
  return (
    <button
      type="button"
      className="break-all text-left underline underline-offset-4"
      title={hint || undefined}
      onClick={() => onSearch(name.includes(" ") ? `"${name}"` : name)}
    >
      {name}
    </button>
  );
}

function Nowhere({ missing, onSearch }: { missing: Missing; onSearch: (words: string) => void }) {
  return (
    <div className="grid justify-items-start gap-1">
      <span className="break-all" title={missing.line}>
        {missing.text}
      </span>
      {missing.nearest[0] !== undefined && (
        <span className="pl-3 text-quiet">
          nearest: <Way address={missing.nearest[0]} hint="" onSearch={onSearch} />
        </span>
      )}
    </div>
  );
}

function More({ all }: { all: number }) {
  return all > MOST ? <span className="text-quiet">and {count(all - MOST)} more</span> : null;
}

function nameOf(address: string): string {
  const label = address.split("//").pop() ?? address;
  try {
    return decodeURIComponent(label);
  } catch {
    return label;
  }
}
