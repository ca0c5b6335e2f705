/** The workshop: the bytes of a file, its description beside them, and what the one makes of the other. */
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { client, take } from "../../api/client";
import { Empty } from "../../components/controls";
import { bytes as sized } from "../../lib/format";
import { ByteView, COLUMNS, ROWS, type Selection } from "./ByteView";
import { Description } from "./Description";
import { keepDraft, keptDraft } from "./drafts";
import { FileMap, Legend } from "./FileMap";
import { Proposed } from "./Proposed";
import { Seek } from "./Seek";
import { Selected } from "./Selected";
import { FoundTable, MemberTable } from "./Tables";
import { Verdict } from "./Verdict";

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
