/** Which layouts know this game; layouts taken from others and given to them; new archives by one. */
import { useQuery } from "@tanstack/react-query";
import { BadgeCheck, FileInput, ShieldAlert } from "lucide-react";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { client, take } from "../../api/client";
import { useAct, useJobs, useOpenAgain, useProject } from "../../api/queries";
import { Button, Empty } from "../../components/controls";
import { isActive, many } from "../../lib/format";
import { GiveAway } from "./GiveAway";
import { NewArchive } from "./NewArchive";
import { fits, type Known, outcomeOf, placeOf, standing, type Taken } from "./words";

const at = (project: string) => ({ params: { path: { project_id: project } } });

export function LayoutsRoom({ project }: { project: string }) {
  const { data: layouts, error } = useQuery({
    queryKey: ["layouts", project],
    queryFn: () => take(client.GET("/api/projects/{project_id}/layouts", at(project))),
  });
  const { data: game } = useProject(project);
  const { data: jobs = [] } = useJobs();
  const [job, setJob] = useState<number | null>(null);
  const chooser = useRef<HTMLInputElement>(null);
  const bring = useAct(
    (text: string) =>
      take(client.POST("/api/projects/{project_id}/layouts/take", { ...at(project), body: { text } })),
    ({ id }) => setJob(id),
  );
  const read = async (file: File | undefined) => {
    if (file) bring.mutate(await file.text());
  };
  const trying = jobs.find((one) => one.id === job);
  const taken = trying?.state === "done" ? (trying.result as unknown as Taken) : null;
  if (error) return <Empty title="The layouts cannot be shown">{error.message}</Empty>;
  return (
    <div className="h-full overflow-auto">
      <div className="mx-auto grid max-w-4xl grid-cols-[minmax(0,1fr)] gap-5 px-8 py-8">
        <div className="flex flex-wrap items-start gap-4">
          <div className="min-w-72 flex-1">
            <h1 className="text-[26px] font-bold">Which layouts know this game</h1>
            <p className="mt-1 max-w-2xl text-quiet">
              A layout describes a kind of file. It is data and no program, so one that somebody else made can
              do no harm; it is tried on the files of {game?.name ?? "your game"} before it is used.
            </p>
          </div>
          <Link to={`/p/${project}/open`} className="py-1.5 underline underline-offset-4">
            What was opened
          </Link>
          <Button look="act" disabled={bring.isPending} onClick={() => chooser.current?.click()}>
            <FileInput aria-hidden className="size-4" /> Take a layout…
          </Button>
          <input
            ref={chooser}
            type="file"
            accept=".yaml"
            className="sr-only"
            aria-label="A shared layout"
            tabIndex={-1}
            onChange={(event) => {
              void read(event.target.files?.[0]);
              event.target.value = "";
            }}
          />
        </div>
        {trying && isActive(trying) && (
          <p role="status" className="flex items-center gap-3 rounded-xl bg-raised p-4">
            <progress className="progress w-32" max={trying.total || 1} value={trying.done} />
            It is tried on the files here …
          </p>
        )}
        {trying?.state === "failed" && (
          <p role="status" className="rounded-xl bg-rust-soft p-4">
            {trying.error?.message} {trying.error?.remedy}
          </p>
        )}
        {taken && <Tried project={project} taken={taken} onDone={() => setJob(null)} />}
        <ul className="grid gap-3" aria-label="Layouts">
          {layouts?.map((known) => (
            <LayoutCard key={known.layout} project={project} known={known} />
          ))}
        </ul>
        {layouts?.length === 0 && (
          <p className="text-quiet">
            No layout knows a file of this game yet. Take one that somebody made, or describe a file in the
            workshop.
          </p>
        )}
      </div>
    </div>
  );
}

function LayoutCard({ project, known }: { project: string; known: Known }) {
  const { words, good } = standing(known);
  const again = useOpenAgain();
  const use = useUse(project, () => again.mutate(project));
  const archive = known.kind === "archive" && known.place !== "kept";
  return (
    <li className="rounded-xl bg-raised p-5" aria-label={known.title}>
      <div className="flex flex-wrap items-baseline gap-x-3">
        <h2 className="text-[18px] font-bold">{known.title}</h2>
        <span className="font-mono text-[13.5px] text-quiet">{known.layout}</span>
        <span className="flex-1" />
        <span className="text-quiet">{placeOf(known)}</span>
      </div>
      <p
        className={`mt-2 flex items-center gap-2 ${good === null ? "text-quiet" : good ? "text-moss" : "text-rust"}`}
      >
        {good === true && <BadgeCheck aria-hidden className="size-5 shrink-0" />}
        {good === false && <ShieldAlert aria-hidden className="size-5 shrink-0" />}
        {words}
      </p>
      {known.versions.length > 0 && (
        <ul className="mt-3 grid gap-1" aria-label="Versions">
          {known.versions.map((one) => (
            <li key={one.version} className="flex items-center gap-3 rounded-lg bg-paper px-3 py-1.5">
              <b>Version {one.version}</b>
              <span className="min-w-0 flex-1 truncate text-quiet">
                {[one.author && `by ${one.author}`, one.licence].filter(Boolean).join(", ")}
              </span>
              {one.used ? (
                <span className="py-1.5">used</span>
              ) : (
                <Button
                  disabled={use.isPending || again.isPending}
                  onClick={() => use.mutate({ layout: known.layout, version: one.version })}
                >
                  Use this one
                </Button>
              )}
            </li>
          ))}
        </ul>
      )}
      {known.place !== "kept" && (
        <div className="mt-3 flex flex-wrap gap-2">
          <GiveAway project={project} known={known} />
          {archive && <NewArchive project={project} known={known} />}
        </div>
      )}
    </li>
  );
}

/** What came of taking a layout: whether it knows files of this game, and what it makes of each. */
function Tried({ project, taken, onDone }: { project: string; taken: Taken; onDone: () => void }) {
  const again = useOpenAgain();
  const use = useUse(project, () => again.mutate(project, { onSuccess: onDone }));
  const good = fits(taken);
  return (
    <section
      className={`rounded-xl p-5 ${good ? "bg-raised" : "bg-rust-soft"}`}
      aria-label={`${taken.title}, as it was tried`}
    >
      <div className="flex flex-wrap items-baseline gap-x-3">
        <h2 className="text-[18px] font-bold">{taken.title}</h2>
        <span className="text-quiet">
          {[`version ${taken.version}`, taken.author && `by ${taken.author}`, taken.licence]
            .filter(Boolean)
            .join(", ")}
        </span>
      </div>
      {taken.about && <p className="mt-1 max-w-2xl whitespace-pre-line">{taken.about}</p>}
      <p className="mt-2">
        {taken.recognised === 0
          ? "It knows no file of this game."
          : `It knows ${many(taken.recognised, "file")} here; tried on ${taken.trials.length}:`}
      </p>
      <ul className="mt-1 grid gap-0.5" aria-label="Trials">
        {taken.trials.map((trial) => (
          <li key={trial.path} className={trial.outcome === "proved" ? "text-moss" : "text-rust"}>
            <b>{trial.path}</b> {outcomeOf(trial)}
            {trial.words && <span className="text-ink"> · {trial.words}</span>}
          </li>
        ))}
      </ul>
      <div className="mt-4 flex flex-wrap items-center gap-3">
        <Button
          look={good ? "act" : "plain"}
          disabled={use.isPending || again.isPending}
          onClick={() => use.mutate({ layout: taken.layout, version: taken.version })}
        >
          {good ? "Use it" : "Use it all the same"}
        </Button>
        <Button look="quiet" onClick={onDone}>
          Not now
        </Button>
        <span className="text-quiet">
          It is kept as a version either way; a layout of yours by this name stays one, too.
        </span>
      </div>
    </section>
  );
}

const useUse = (project: string, after: () => void) =>
  useAct(
    ({ layout, version }: { layout: string; version: string }) =>
      take(
        client.POST("/api/projects/{project_id}/layouts/{layout}/use", {
          params: { path: { project_id: project, layout } },
          body: { version },
        }),
      ),
    after,
  );
