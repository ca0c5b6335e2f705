/** The strip along the bottom: what is being worked on, and what Brae itself is doing. */
import { useVirtualizer } from "@tanstack/react-virtual";
import { Popover } from "radix-ui";
import { useEffect, useRef } from "react";
import { NavLink, useLocation } from "react-router";
import type { Edit } from "../api/client";
import { useCancelJob, useEdits, useJobs } from "../api/queries";
import { faceOf } from "../assets/registry";
import { StateMark } from "../components/StateMark";
import { baseName, isActive, progress } from "../lib/format";

export function WorkStrip({ project }: { project: string }) {
  const { data: edits = [] } = useEdits(project);
  const { data: jobs = [] } = useJobs();
  const { search, pathname } = useLocation();
  // What runs comes first, then what waits for it, in its order.
  const running = jobs
    .filter(isActive)
    .sort((a, b) => Number(a.state === "waiting") - Number(b.state === "waiting") || a.id - b.id);
  if (project === "" && running.length === 0) return null;
  const shown = pathname.endsWith("/edit") ? new URLSearchParams(search).get("item") : null;
  return (
    <section
      className={`flex ${edits.length === 0 && running.length === 0 ? "h-9" : "h-[74px]"} shrink-0 items-center gap-3 bg-sunk px-5`}
      aria-label="Editing"
    >
      {edits.length === 0 && running.length === 0 && (
        <p className="text-quiet">
          Nothing is being edited yet. What you edit stays here, with the file on disk that each item waits
          for.
        </p>
      )}
      <Edits project={project} edits={edits} shown={shown} />
      {running.slice(0, BESIDE).map((job) => (
        <RunningJob key={job.id} job={job} />
      ))}
      {running.length > BESIDE && <Others jobs={running.slice(BESIDE)} />}
    </section>
  );
}

/** As many jobs stand beside each other as leave room for the edits in half a screen. */
const BESIDE = 2;

function Others({ jobs }: { jobs: Job[] }) {
  return (
    <Popover.Root>
      <Popover.Trigger className="shrink-0 underline underline-offset-4">{jobs.length} more</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={12}
          collisionPadding={12}
          aria-label="Further work"
          className="z-20 grid max-h-[60vh] gap-3 overflow-auto rounded-xl border border-line bg-raised p-3 shadow-lg"
        >
          {jobs.map((job) => (
            <RunningJob key={job.id} job={job} />
          ))}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function Small({ project, edit }: { project: string; edit: Edit }) {
  const face = faceOf(edit.kind);
  return <face.Small project={project} edit={edit} which={edit.position ? "edit" : "original"} />;
}

type Job = NonNullable<ReturnType<typeof useJobs>["data"]>[number];

function RunningJob({ job }: { job: Job }) {
  const cancel = useCancelJob();
  return (
    <div className="w-80 shrink-0" role="status">
      <div className="flex justify-between gap-3">
        <b className="truncate">{job.title}</b>
        <button type="button" className="underline" onClick={() => cancel.mutate(job.id)}>
          Cancel
        </button>
      </div>
      <progress className="progress w-full" max={job.total || 1} value={job.total ? job.done : undefined} />
      <div className="truncate text-[13px] text-quiet" title={progress(job)}>
        {progress(job)}
      </div>
    </div>
  );
}

/** each with the gap behind it, in pixels */
const WIDE = 248;

/** The edits side by side; thousands of them too, so only those are drawn that are seen. */
function Edits({ project, edits, shown }: { project: string; edits: Edit[]; shown: string | null }) {
  const frame = useRef<HTMLDivElement>(null);
  const strip = useVirtualizer({
    count: edits.length,
    horizontal: true,
    getScrollElement: () => frame.current,
    estimateSize: () => WIDE,
    getItemKey: (place) => edits[place]?.address ?? place,
    overscan: 5,
  });
  const here = edits.findIndex((edit) => edit.address === shown);
  useEffect(() => {
    if (here >= 0) strip.scrollToIndex(here);
  }, [here, strip]);
  return (
    <div ref={frame} className="min-w-0 flex-1 overflow-x-auto py-1">
      <ul className="relative h-[58px]" style={{ width: strip.getTotalSize() }}>
        {strip.getVirtualItems().map(({ index, key, start }) => {
          const edit = edits[index];
          if (edit === undefined) return null;
          return (
            <li
              key={key}
              className="absolute"
              style={{ left: start }}
              aria-posinset={index + 1}
              aria-setsize={edits.length}
            >
              <NavLink
                to={`/p/${project}/edit?item=${encodeURIComponent(edit.address)}`}
                className={`flex w-60 items-center gap-2.5 rounded-lg p-1.5 hover:bg-raised ${
                  shown === edit.address ? "bg-raised" : ""
                }`}
                title={edit.file}
              >
                <span className="ground size-[46px] shrink-0 overflow-hidden rounded">
                  <Small project={project} edit={edit} />
                </span>
                <span className="min-w-0 leading-tight">
                  <span className="block truncate font-bold">{baseName(edit.file)}</span>
                  <StateMark edit={edit} />
                </span>
              </NavLink>
            </li>
          );
        })}
      </ul>
    </div>
  );
}
