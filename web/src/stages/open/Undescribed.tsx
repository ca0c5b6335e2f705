/** Files that no layout describes: find their structure, take it, and they are archives like the others. */
import { FileQuestion, ScanSearch } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { Project, Schemas } from "../../api/client";
import { BY_SIGNS } from "../../api/client";
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
/** The largest texture that is likely: 4096 x 4096 of four bytes with its levels, and some. */
const MOST_GUESSED = 100_000_000;

export function Undescribed({ project }: { project: Project }) {
  const [all, setAll] = useState(false);
  const files = project.undescribed;
  const described = project.archives.some((archive) => archive.layout !== BY_SIGNS);
  if (files.length === 0 && described) return null;
  const found = files.reduce((sum, file) => sum + (file.found ?? 0), 0);
  return (
    <section>
      <h2 className="text-[18px] font-bold">
        {described ? "Not described yet" : "No archive was recognised"}
      </h2>
      <p className="mt-1 mb-3 max-w-2xl text-quiet">
        {files.length > 0 && `No layout describes ${many(files.length, "file")}. `}
        {found > 0 &&
          `By their signs ${many(found, "file")} of open formats lie in them: they can be looked at, and changed in their places, right away. `}
        {files.length > 0 &&
          "With a layout everything in a file can be changed and may grow; Brae looks for structures by itself and proposes layouts, each with its proof. "}
        A layout of your own goes into <Copyable value={`${project.folder}/brae-layouts`} />
      </p>
      <ul className="grid grid-cols-[minmax(0,1fr)] gap-2">
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
    (one) =>
      one.kind === "structure" &&
      isActive(one) &&
      one.project_id === project.id &&
      one.arguments.path === file.path,
  );
  const soFar = (job?.result ?? null) as Schemas["Structure"] | null;
  const found = soFar ?? structures.find((one) => one.path === file.path);
  const alike = file.family ?? [];
  return (
    <li className="grid gap-2 rounded-xl bg-raised p-4" aria-label={file.path}>
      <div className="flex items-baseline gap-3">
        <FileQuestion aria-hidden className="size-6 shrink-0 self-center text-heather" strokeWidth={1.6} />
        <b className="min-w-0 flex-1 text-[17px] break-words">{file.path}</b>
        <span className="shrink-0 text-quiet">{bytes(file.size)}</span>
      </div>
      {(file.words?.length ?? 0) > 0 && <p className="text-quiet">{file.words?.join(" · ")}</p>}
      {alike.length > 0 && (
        <p className="text-quiet">
          like {alike.slice(0, 3).join(", ")}
          {alike.length > 3 && ` and ${count(alike.length - 3)} more`}
        </p>
      )}
      {(file.found ?? 0) > 0 && (
        <p className="flex items-start gap-2">
          <ScanSearch aria-hidden className="mt-0.5 size-5 shrink-0 text-heather" />
          <span>
            <b>{many(file.found ?? 0, "file")} of open formats found by their signs.</b> Unproved: nothing
            else in this file is known. They can be changed in their places, so nothing else moves and
            everything can be put back; a checksum elsewhere in the game may still mind.
          </span>
        </p>
      )}
      {file.left_out?.map((words) => (
        <p key={words} className="text-rust">
          {words}
        </p>
      ))}
      <div className="flex flex-wrap items-center gap-3">
        {job ? (
          <>
            <Button onClick={() => cancel.mutate(job.id)}>Stop looking</Button>
            <progress className="progress w-32" max={job.total || 1} value={job.done} />
            <span role="status" className="min-w-0 flex-1 text-quiet">
              {job.waits_for ? `waits: ${job.waits_for}` : (job.doing ?? "starting")}
            </span>
          </>
        ) : (
          <>
            <Button
              look="plain"
              disabled={find.isPending}
              onClick={() => find.mutate({ path: file.path, data: data || null })}
            >
              <ScanSearch aria-hidden className="size-4" /> {found ? "Look again" : "Find its structure"}
            </Button>
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
          </>
        )}
        <Link
          to={workshopPath(project.id, file.path, data || null)}
          className="text-quiet underline underline-offset-4 hover:text-ink"
        >
          Describe it in the workshop
        </Link>
        {file.size <= MOST_GUESSED && (
          <Link
            to={`/p/${project.id}/guess?item=${encodeURIComponent(file.path)}&kind=texture`}
            className="text-quiet underline underline-offset-4 hover:text-ink"
          >
            Look for a picture in it
          </Link>
        )}
      </div>
      {found && (found.proposals.length > 0 || !job) && (
        <Proposals project={project.id} found={found} show={find.isSuccess} />
      )}
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
      <p className="text-quiet">
        No structure was found by itself. The workshop shows its bytes, with all that was found so far, and
        takes what you see in them.
      </p>
    );
  return (
    <div ref={place} className="mt-2 grid scroll-mb-6 grid-cols-[minmax(0,17rem)_minmax(0,1fr)] gap-4">
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
