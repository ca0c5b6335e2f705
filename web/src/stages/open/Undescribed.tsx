/** Files that no layout describes: find their structure, take it, and they are archives like the others. */
import { FileQuestion, ScanSearch } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { Project, Schemas } from "../../api/client";
import {
  useCancelJob,
  useFindStructure,
  useJobs,
  useKeepLayout,
  useOpenAgain,
  useStructures,
} from "../../api/queries";
import { Button, Copyable } from "../../components/controls";
import { bytes, count, isActive, many } from "../../lib/format";
import { keepDraft, workshopPath } from "../workshop/drafts";

const SHOWN = 8;

export function Undescribed({ project }: { project: Project }) {
  const [all, setAll] = useState(false);
  const files = project.undescribed;
  const none = project.archives.length === 0;
  if (files.length === 0 && !none) return null;
  return (
    <section>
      <h2 className="text-[18px] font-bold">{none ? "No archive was recognised" : "Not described yet"}</h2>
      <p className="mt-1 mb-3 max-w-2xl text-quiet">
        {files.length > 0 &&
          `No layout describes ${many(files.length, "file")}. Brae can look for tables, names and packing in them, and proposes a layout with its proof. Nothing is changed by looking. `}
        A layout of your own goes into <Copyable value={`${project.folder}/brae-layouts`} />
      </p>
      <ul className="grid gap-2">
        {files.slice(0, all ? undefined : SHOWN).map((file) => (
          <UndescribedFile key={file.path} project={project} file={file} />
        ))}
      </ul>
      {files.length > SHOWN && !all && (
        <Button look="quiet" className="mt-2" onClick={() => setAll(true)}>
          show all {count(files.length)}
        </Button>
      )}
    </section>
  );
}

/** The file that goes with an index: the same name with another ending, or the name with an ending added. */
export function partner(path: string, others: string[]): string | null {
  const stem = (name: string) => name.replace(/\.[^./]*$/, "");
  return (
    others.find((other) => other !== path && other.startsWith(`${path}.`)) ??
    others.find((other) => other !== path && stem(other) === stem(path)) ??
    null
  );
}

function UndescribedFile({ project, file }: { project: Project; file: Project["undescribed"][number] }) {
  const others = project.undescribed.map((one) => one.path);
  const [data, setData] = useState(partner(file.path, others) ?? "");
  const { data: jobs = [] } = useJobs();
  const { data: structures = [] } = useStructures(project.id);
  const find = useFindStructure(project.id);
  const cancel = useCancelJob();
  const job = jobs.find(
    (one) => one.kind === "structure" && isActive(one) && one.arguments.path === file.path,
  );
  const found = structures.find((one) => one.path === file.path);
  return (
    <li className="rounded-xl bg-raised p-4" aria-label={file.path}>
      <div className="flex flex-wrap items-center gap-3">
        <FileQuestion aria-hidden className="size-6 text-heather" strokeWidth={1.6} />
        <b className="min-w-0 flex-1 truncate text-[17px]">{file.path}</b>
        <span className="text-quiet">{bytes(file.size)}</span>
        {others.length > 1 && (
          <label className="flex items-center gap-2 text-quiet">
            data in
            <select
              className="w-40 rounded-md border border-line bg-paper px-2 py-1 text-ink"
              value={data}
              onChange={(event) => setData(event.target.value)}
            >
              <option value="">this file</option>
              {others
                .filter((other) => other !== file.path)
                .map((other) => (
                  <option key={other}>{other}</option>
                ))}
            </select>
          </label>
        )}
        <Link
          to={workshopPath(project.id, file.path, data || null)}
          className="text-quiet underline underline-offset-4 hover:text-ink"
        >
          Describe it in the workshop
        </Link>
        {job ? (
          <>
            <span role="status">{many(job.done, "layout")} tried</span>
            <Button onClick={() => cancel.mutate(job.id)}>Stop</Button>
          </>
        ) : (
          <Button
            look="plain"
            disabled={find.isPending}
            onClick={() => find.mutate({ path: file.path, data: data || null })}
          >
            <ScanSearch aria-hidden className="size-4" /> {found ? "Look again" : "Find its structure"}
          </Button>
        )}
      </div>
      {found && !job && <Proposals project={project.id} found={found} show={find.isSuccess} />}
    </li>
  );
}

function Proposals({
  project,
  found,
  show,
}: {
  project: string;
  found: Schemas["Structure"];
  show: boolean;
}) {
  const [chosen, setChosen] = useState(0);
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    // What the person waited for must not come up below the window's edge.
    if (show) place.current?.scrollIntoView({ block: "nearest" });
  }, [show]);
  const proposal = found.proposals[chosen];
  if (!proposal)
    return (
      <p className="mt-3 text-quiet">
        No structure was found. The file may be packed or encrypted as a whole; docs/cookbook.md shows how to
        describe what only a person can see.
      </p>
    );
  return (
    <div ref={place} className="mt-4 grid scroll-mb-6 grid-cols-[minmax(0,17rem)_minmax(0,1fr)] gap-4">
      <ul className="grid content-start gap-1.5" aria-label="Proposals">
        {found.proposals.map((one, index) => (
          <li key={one.text}>
            <button
              type="button"
              aria-pressed={index === chosen}
              onClick={() => setChosen(index)}
              className="w-full rounded-lg bg-sunk p-3 text-left hover:bg-line aria-pressed:bg-heather-soft aria-pressed:outline-2 aria-pressed:outline-heather"
            >
              <b className="block">{many(one.members, "member")}</b>
              <span className="block text-quiet">
                {(one.explained * 100).toFixed(1)} % of the bytes explained
              </span>
              <span className={one.state === "proved" ? "block text-moss" : "block text-rust"}>
                {one.state === "proved"
                  ? "Proved, byte for byte"
                  : one.exact
                    ? "A beginning: contradicted"
                    : "A beginning: no proof"}
              </span>
            </button>
          </li>
        ))}
      </ul>
      <Taken key={proposal.text} project={project} found={found} proposal={proposal} />
    </div>
  );
}

function Taken({
  project,
  found,
  proposal,
}: {
  project: string;
  found: Schemas["Structure"];
  proposal: Schemas["Proposal"];
}) {
  const [text, setText] = useState(proposal.text);
  const keep = useKeepLayout();
  const again = useOpenAgain();
  return (
    <div className="grid content-start gap-2">
      <p className="truncate text-quiet">{proposal.names.join("  ·  ")}</p>
      {proposal.reason && <p className="text-rust">{proposal.reason}</p>}
      <textarea
        aria-label="The layout"
        spellCheck={false}
        className="h-72 w-full resize-y rounded-lg border border-line bg-paper p-3 font-mono text-[13px] leading-relaxed"
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      <div className="flex items-center gap-3">
        <Button
          look="act"
          disabled={keep.isPending || again.isPending}
          onClick={() => keep.mutate(text, { onSuccess: () => again.mutate(project) })}
        >
          Use this layout
        </Button>
        <Link
          to={workshopPath(project, found.path, found.data ?? null)}
          onClick={() => keepDraft(project, found.path, text)}
          className="underline underline-offset-4"
        >
          Go on in the workshop
        </Link>
        <span className="text-quiet">It is kept in Brae's own folder; the game is looked at again.</span>
      </div>
    </div>
  );
}
