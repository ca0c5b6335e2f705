/** The workshop: the bytes of a file, its description beside them, and what the one makes of the other. */
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { BadgeCheck, ScanSearch, ShieldAlert } from "lucide-react";
import { useEffect, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { showProblem, useKeepLayout, useOpenAgain, useStructures } from "../../api/queries";
import { Button, Empty } from "../../components/controls";
import { contradicted, Evidence } from "../../components/Evidence";
import { count, many, bytes as sized } from "../../lib/format";
import { ByteView, COLUMNS, ROWS, type Selection } from "./ByteView";
import { Description } from "./Description";
import { keepDraft, keptDraft } from "./drafts";
import { FileMap, Legend } from "./FileMap";
import { offsetOf, readings } from "./numbers";

const TYPING = 350;

export default function Workshop({ project }: { project: string }) {
  const [params] = useSearchParams();
  const file = params.get("file") ?? "";
  const data = params.get("data");
  const beginning = useQuery({
    queryKey: ["workshop", project, file, data, "beginning"],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/workshop/beginning", {
          params: { path: { project_id: project }, query: { path: file, data } },
        }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
  });
  if (beginning.error) return <Empty title="This file cannot be described">{beginning.error.message}</Empty>;
  if (!beginning.data) return null;
  return (
    <Bench
      key={`${file}|${data}`}
      project={project}
      file={file}
      data={data}
      first={keptDraft(project, file) ?? beginning.data.text}
    />
  );
}

type Side = "main" | "data";

function Bench({
  project,
  file,
  data,
  first,
}: {
  project: string;
  file: string;
  data: string | null;
  first: string;
}) {
  const [text, setText] = useState(first);
  const [read, setRead] = useState(first);
  const [side, setSide] = useState<Side>("main");
  const [offset, setOffset] = useState(0);
  const [selection, setSelection] = useState<Selection | null>(null);
  useEffect(() => {
    keepDraft(project, file, text);
    const timer = setTimeout(() => setRead(text), TYPING);
    return () => clearTimeout(timer);
  }, [text, project, file]);
  const path = { params: { path: { project_id: project } } };
  const about = { path: file, data, text: read };
  const look = useQuery({
    queryKey: ["workshop", project, file, data, "look", read],
    queryFn: () => take(client.POST("/api/projects/{project_id}/workshop", { ...path, body: about })),
    placeholderData: keepPreviousData,
  });
  const window = useQuery({
    queryKey: ["workshop", project, file, data, "window", side, offset, read],
    queryFn: () =>
      take(
        client.POST("/api/projects/{project_id}/workshop/window", {
          ...path,
          body: { ...about, file: side, offset, length: COLUMNS * ROWS },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const map = look.data?.files.find((one) => one.file === side);
  const go = (place: number) =>
    setOffset(Math.max(0, Math.min(place, Math.max((map?.size ?? 0) - 1, 0)) & ~15));
  return (
    <div className="grid h-full grid-cols-[minmax(0,5fr)_minmax(0,7fr)] gap-5 px-5 pt-1 pb-3">
      <section className="flex min-h-0 flex-col gap-2" aria-label="Description">
        <div className="flex items-baseline gap-3">
          <h1 className="min-w-0 flex-1 truncate text-[20px] font-bold">{file}</h1>
          <Link to={`/p/${project}/open`} className="text-quiet underline underline-offset-4">
            back to Open
          </Link>
        </div>
        <div className="min-h-40 flex-1">
          <Description text={text} error={look.data?.error ?? null} onChange={setText} />
        </div>
        {!look.data?.proof?.exact && (
          <Proposed project={project} file={file} data={data} text={text} onTake={setText} />
        )}
        {look.data && (
          <Verdict project={project} look={look.data} text={text} fresh={text === read} onTake={setText} />
        )}
      </section>
      <section className="flex min-h-0 flex-col gap-2 overflow-auto pr-1" aria-label="Bytes and members">
        <div className="flex items-center gap-4">
          {data &&
            (["main", "data"] as const).map((one) => (
              <button
                key={one}
                type="button"
                aria-pressed={side === one}
                className="rounded-lg bg-sunk px-3 py-1 aria-pressed:bg-heather-soft aria-pressed:font-bold"
                onClick={() => {
                  setSide(one);
                  setOffset(0);
                  setSelection(null);
                }}
              >
                {one === "main" ? file : data}
              </button>
            ))}
          {map && (
            <span className="text-quiet">
              {sized(map.size)}, {(map.explained * 100).toFixed(1)} % explained
            </span>
          )}
          <span className="flex-1" />
          <Seek
            project={project}
            path={side === "main" ? file : (data ?? file)}
            onFound={(place, length) => {
              go(place);
              setSelection({ start: place, end: place + length });
            }}
          />
        </div>
        {map && <FileMap map={map} offset={offset} shown={COLUMNS * ROWS} onGo={go} />}
        <Legend />
        {window.data && map && (
          <ByteView
            window={window.data}
            size={map.size}
            selection={selection}
            onSelect={setSelection}
            onGo={go}
          />
        )}
        {window.data && selection && (
          <Selected
            project={project}
            about={{ path: file, data, text }}
            side={side}
            window={window.data}
            selection={selection}
            onSaid={setText}
          />
        )}
        {look.data && (
          <MemberTable
            look={look.data}
            onGo={(place) => {
              const members = look.data?.files.find((one) =>
                one.spans.some((span) => span.kind === "members"),
              );
              if (members) setSide(members.file as Side);
              go(place);
            }}
          />
        )}
        {map && <FoundTable map={map} onGo={go} />}
      </section>
    </div>
  );
}

/** The proof, or what is still wrong; and using the description. */
function Verdict({
  project,
  look,
  text,
  fresh,
  onTake,
}: {
  project: string;
  look: Schemas["WorkshopView"];
  text: string;
  fresh: boolean;
  onTake: (text: string) => void;
}) {
  const keep = useKeepLayout();
  const again = useOpenAgain();
  const navigate = useNavigate();
  const use = () =>
    keep.mutate(text, {
      onSuccess: () => again.mutate(project, { onSuccess: () => navigate(`/p/${project}/open`) }),
    });
  const { error, proof } = look;
  return (
    <div className={`grid gap-2 rounded-lg bg-raised p-3 ${fresh ? "" : "opacity-60"}`} role="status">
      {proof?.exact && contradicted(look.evidence) ? (
        <p className="flex items-start gap-2 text-rust">
          <ShieldAlert aria-hidden className="mt-0.5 size-5 shrink-0" />
          <span>
            <b>Not right yet.</b> A rebuild equals the file byte for byte, but the members contradict the
            description.
          </span>
        </p>
      ) : proof?.exact ? (
        <p className="flex items-start gap-2 text-moss">
          <BadgeCheck aria-hidden className="mt-0.5 size-5 shrink-0" />
          <span>
            <b>Proved.</b> An unchanged rebuild equals the file byte for byte; {many(look.members, "member")}.
          </span>
        </p>
      ) : (
        <p className="flex items-start gap-2 text-rust">
          <ShieldAlert aria-hidden className="mt-0.5 size-5 shrink-0" />
          <span>
            {error ? (
              <>
                {error.line ? <b>Line {error.line}: </b> : null}
                {error.message} {error.expected && `Expected ${error.expected}.`}
              </>
            ) : (
              (proof?.reason ??
              "It is proved when the game is opened: there is too much of it to do it while you type.")
            )}
          </span>
        </p>
      )}
      {proof?.remedy && proof.field && (
        <Mend project={project} text={text} field={proof.field} remedy={proof.remedy} onTake={onTake} />
      )}
      <Evidence evidence={look.evidence} />
      <div className="flex items-center gap-3">
        <Button
          look={proof?.exact && !contradicted(look.evidence) ? "act" : "plain"}
          disabled={!!error || !fresh || keep.isPending || again.isPending}
          onClick={use}
        >
          Use this layout
        </Button>
        <span className="text-[14px] text-quiet">
          It is kept in Brae's own folder; the game is looked at again.
        </span>
      </div>
    </div>
  );
}

/** The line that would explain why a rebuild differs. */
function Mend({
  project,
  text,
  field,
  remedy,
  onTake,
}: {
  project: string;
  text: string;
  field: string;
  remedy: string;
  onTake: (text: string) => void;
}) {
  const mend = useMutation({
    mutationFn: () =>
      take(
        client.POST("/api/projects/{project_id}/workshop/mend", {
          params: { path: { project_id: project } },
          body: { text, field, remedy },
        }),
      ),
    onSuccess: (said) => onTake(said.text),
    onError: showProblem,
  });
  return (
    <div className="flex items-center gap-3">
      <span className="min-w-0 flex-1">
        This would explain it: <code className="font-mono text-[13.5px] break-words">{remedy}</code>
      </span>
      <Button disabled={mend.isPending} onClick={() => mend.mutate()}>
        Write it down
      </Button>
    </div>
  );
}

const SAYS = {
  number: "a number",
  signed: "a signed number",
  text: "text",
  magic: "always these bytes",
  bytes: "bytes nobody explains",
} as const;

/** Chosen bytes: what they could be, and saying what they are. */
function Selected({
  project,
  about,
  side,
  window,
  selection,
  onSaid,
}: {
  project: string;
  about: { path: string; data: string | null; text: string };
  side: Side;
  window: Schemas["WindowView"];
  selection: Selection;
  onSaid: (text: string) => void;
}) {
  const [says, setSays] = useState<keyof typeof SAYS>("number");
  const [name, setName] = useState("");
  const raw = Uint8Array.from(atob(window.bytes), (c) => c.charCodeAt(0));
  const chosen = raw.slice(
    Math.max(selection.start - window.offset, 0),
    Math.max(selection.end - window.offset, 0),
  );
  const field = window.fields.find((one) => one.start <= selection.start && one.end >= selection.end);
  const say = () =>
    take(
      client.POST("/api/projects/{project_id}/workshop/say", {
        params: { path: { project_id: project } },
        body: { ...about, file: side, start: selection.start, end: selection.end, says, name },
      }),
    ).then((said) => {
      onSaid(said.text);
      setName("");
    }, showProblem);
  return (
    <div className="grid shrink-0 gap-2 rounded-lg bg-raised p-3">
      <p className="flex flex-wrap gap-x-4">
        <b>
          {many(selection.end - selection.start, "byte")} at {count(selection.start)} (
          {offsetOf(selection.start)})
        </b>
        {readings(chosen).map(([what, value]) => (
          <span key={what}>
            <span className="text-quiet">{what}</span> <code className="font-mono">{value}</code>
          </span>
        ))}
      </p>
      {field ? (
        <p className="text-quiet">
          described as <b className="text-ink">{field.name}</b> {field.value && `= ${field.value}`}
        </p>
      ) : (
        <form
          className="flex flex-wrap items-center gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            void say();
          }}
        >
          <label className="flex items-center gap-2">
            These are
            <select
              className="rounded-lg border border-line bg-paper px-2 py-1"
              value={says}
              onChange={(event) => setSays(event.target.value as keyof typeof SAYS)}
            >
              {Object.entries(SAYS).map(([value, words]) => (
                <option key={value} value={value}>
                  {words}
                </option>
              ))}
            </select>
          </label>
          <label className="flex items-center gap-2">
            called
            <input
              className="w-36 rounded-lg border border-line bg-paper px-2 py-1"
              value={name}
              spellCheck={false}
              onChange={(event) => setName(event.target.value)}
            />
          </label>
          <Button type="submit" disabled={!name}>
            Write it down
          </Button>
        </form>
      )}
    </div>
  );
}

/** Find bytes: exactly one place, or say how many. */
function Seek({
  project,
  path,
  onFound,
}: {
  project: string;
  path: string;
  onFound: (place: number, length: number) => void;
}) {
  const [words, setWords] = useState("");
  const [places, setPlaces] = useState<number[] | null>(null);
  const [at, setAt] = useState(0);
  const seek = () => {
    const bare = words.replace(/\s/g, "");
    const hex = /^([0-9a-f]{2})+$/i.test(bare) && /^\s*(0x|[0-9a-f]{2}(\s|$))/i.test(words) ? bare : "";
    const length = hex ? hex.length / 2 : new TextEncoder().encode(words).length;
    return take(
      client.POST("/api/projects/{project_id}/workshop/seek", {
        params: { path: { project_id: project } },
        body: { path, hex, words: hex ? "" : words },
      }),
    ).then(({ places: found }) => {
      const next = places && found.length > 0 ? (at + 1) % found.length : 0;
      setPlaces(found);
      setAt(next);
      const place = found[next];
      if (place !== undefined) onFound(place, length);
    }, showProblem);
  };
  return (
    <form
      className="flex items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        if (words) void seek();
      }}
    >
      <span className="text-quiet" role="status">
        {places === null ? "" : places.length === 0 ? "nowhere" : `${at + 1} of ${places.length}`}
      </span>
      <input
        type="search"
        aria-label="Find bytes: words, or hexadecimal such as 50 49 45 52"
        placeholder="words, or 50 49 45 52"
        className="w-48 rounded-lg border border-line bg-raised px-2 py-1"
        value={words}
        onChange={(event) => {
          setWords(event.target.value);
          setPlaces(null);
        }}
      />
    </form>
  );
}

/** What the search for a structure proposes, as long as the description says something else. */
function Proposed({
  project,
  file,
  data,
  text,
  onTake,
}: {
  project: string;
  file: string;
  data: string | null;
  text: string;
  onTake: (text: string) => void;
}) {
  const { data: structures = [] } = useStructures(project);
  const found = structures.find((one) => one.path === file && (one.data ?? null) === data);
  const best = found?.proposals[0];
  if (!best || best.text === text) return null;
  return (
    <div className="flex items-center gap-3 rounded-lg bg-raised p-3">
      <ScanSearch aria-hidden className="size-5 shrink-0 text-heather" />
      <span className="min-w-0 flex-1">
        Brae found a structure: {many(best.members, "member")}, {(best.explained * 100).toFixed(1)} % of the
        bytes explained, {best.state === "proved" ? "with its proof" : "a beginning"}.
      </span>
      <Button onClick={() => onTake(best.text)}>Put it here</Button>
    </div>
  );
}

/** Files that were found by their signs and that the description does not reach yet. */
function FoundTable({ map, onGo }: { map: Schemas["FileMap"]; onGo: (place: number) => void }) {
  const found = map.spans.filter((span) => span.kind === "found");
  if (found.length === 0) return null;
  return (
    <div className="min-h-32 shrink-0 overflow-auto">
      <table className="w-full text-left text-[13.5px]">
        <caption className="pb-1 text-left font-bold">
          {many(found.length, "file")} found by their signs, that the description does not reach
        </caption>
        <thead className="text-quiet">
          <tr>
            {["what", "offset", "bytes"].map((word) => (
              <th key={word} className="pr-3 font-normal">
                {word}
              </th>
            ))}
          </tr>
        </thead>
        <tbody className="tabular-nums">
          {found.slice(0, MOST_FOUND).map((span) => (
            <tr key={span.start} className="border-t border-line hover:bg-sunk">
              <td className="pr-3">
                <button
                  type="button"
                  className="min-h-6 w-full text-left underline-offset-4 hover:underline"
                  onClick={() => onGo(span.start)}
                >
                  {span.name}
                </button>
              </td>
              <td className="pr-3">{count(span.start)}</td>
              <td className="pr-3">{count(span.end - span.start)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const MOST_FOUND = 200;

function MemberTable({ look, onGo }: { look: Schemas["WorkshopView"]; onGo: (place: number) => void }) {
  if (look.rows.length === 0) return null;
  return (
    <div className="min-h-32 shrink-0 overflow-auto">
      <table className="w-full text-left text-[13.5px]">
        <caption className="pb-1 text-left font-bold">
          {many(look.members, "member")}
          {look.members > look.rows.length && `, the first ${look.rows.length}`}
        </caption>
        <thead className="text-quiet">
          <tr>
            {["name", "offset", "stored", "real", "packed", "begins with"].map((word) => (
              <th key={word} className="pr-3 font-normal">
                {word}
              </th>
            ))}
          </tr>
        </thead>
        <tbody className="tabular-nums">
          {look.rows.map((row, number) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: members have no other identity, names may repeat
            <tr key={number} className="border-t border-line hover:bg-sunk">
              <td className="max-w-64 truncate pr-3">
                <button
                  type="button"
                  className="min-h-6 w-full text-left underline-offset-4 hover:underline"
                  onClick={() => onGo(row.offset)}
                >
                  {row.name}
                </button>
              </td>
              <td className="pr-3">{count(row.offset)}</td>
              <td className="pr-3">{count(row.stored)}</td>
              <td className="pr-3">{row.real < 0 ? "?" : count(row.real)}</td>
              <td className="pr-3">
                {row.fault ? <span className="text-rust">{row.fault}</span> : row.packer}
              </td>
              <td className="font-mono text-[12.5px] text-quiet">{row.head}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
