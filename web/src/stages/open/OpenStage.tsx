import {
  BadgeCheck,
  FolderOpen,
  Hammer,
  Images,
  Paintbrush,
  RefreshCw,
  RotateCcw,
  ShieldAlert,
} from "lucide-react";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { BY_SIGNS, type Project } from "../../api/client";
import {
  useChoose,
  useJobs,
  useOpenAgain,
  useOpenGame,
  useProject,
  useProjects,
  useServer,
} from "../../api/queries";
import { useKinds } from "../../assets/kinds";
import { signOf, titlesOf } from "../../assets/registry";
import { Button, Copyable, Empty } from "../../components/controls";
import { contradicted, Evidence } from "../../components/Evidence";
import { count, isActive, many } from "../../lib/format";
import { type Search, useFacets } from "../find/useCatalogue";
import { useDrop } from "./drop";
import { FolderChooser } from "./FolderChooser";
import { Undescribed } from "./Undescribed";
import { UnknownMembers } from "./UnknownMembers";

export function OpenStage({ project }: { project: string }) {
  return project === "" ? <Games /> : <OpenedGame project={project} />;
}

/** Where everything begins: choose a game. */
function Games() {
  const { data: projects = [], isSuccess } = useProjects();
  const { data: server } = useServer();
  const { data: jobs = [] } = useJobs();
  const navigate = useNavigate();
  const open = useOpenGame((project) => navigate(`/p/${project}/find`, { state: { fresh: true } }));
  const [hint, setHint] = useState("");
  const drop = useDrop((dropped) => {
    if (dropped.path) open.mutate(dropped.path);
    else
      setHint(
        `The browser does not say where ${dropped.name} lies. Choose its folder, or paste its path there.`,
      );
  });
  const opening = jobs.some((job) => job.kind === "open" && isActive(job));
  const left = jobs.find(
    (job) => job.kind === "open" && job.state === "interrupted" && !projects.some((p) => p.opened),
  );
  const demo = server?.demo ?? null;
  const demoOpened = projects.find((project) => project.folder === demo);
  return (
    <div className="h-full overflow-auto" {...drop}>
      <div className="mx-auto grid max-w-4xl gap-8 px-8 py-10">
        <div>
          <h1 className="text-[30px] leading-tight font-bold">
            Change the pictures of a game, and nothing else.
          </h1>
          <p className="mt-2 max-w-2xl text-[17px] text-quiet">
            Choose a game's folder or one of its archives. Brae only reads it until you build, keeps every
            byte it replaces, and puts all of it back with one action.
          </p>
        </div>
        <div className="flex flex-wrap gap-3">
          {demo && (
            <Button
              look="act"
              className="px-5 py-2.5 text-[16px]"
              disabled={opening && !demoOpened}
              onClick={() => (demoOpened ? navigate(`/p/${demoOpened.id}/find`) : open.mutate(demo))}
            >
              {demoOpened ? "Go to the demo game, Skerry Post" : "Open the demo game, Skerry Post"}
            </Button>
          )}
          <FolderChooser>
            <Button look={demo ? "plain" : "act"} className="px-5 py-2.5 text-[16px]">
              <FolderOpen aria-hidden className="size-5" /> Choose a game's folder…
            </Button>
          </FolderChooser>
        </div>
        {hint && (
          <p className="rounded-lg bg-rust-soft p-3" role="status">
            {hint}
          </p>
        )}
        <ol className="grid grid-cols-4 gap-3" aria-label="How it goes">
          <Step number={1} icon={Images} title="Find">
            Every picture of the game at once. Press Edit this on the one you want.
          </Step>
          <Step number={2} icon={Paintbrush} title="Paint">
            It is a PNG now. Use your own image editor, and just save.
          </Step>
          <Step number={3} icon={Hammer} title="Build">
            Encoded like the original, into the game's own archive.
          </Step>
          <Step number={4} icon={RotateCcw} title="Put back">
            One action, and the game is as it was, byte for byte.
          </Step>
        </ol>
        {left && (
          <p className="rounded-lg bg-rust-soft p-3">
            {left.title} was interrupted. Open the same folder again to continue; nothing was changed.
          </p>
        )}
        {isSuccess && projects.length > 0 && (
          <section>
            <h2 className="mb-2 text-[18px] font-bold">Your games</h2>
            <ul className="grid grid-cols-[minmax(0,1fr)] gap-1.5">
              {projects.map((project) => (
                <li key={project.id}>
                  <Link
                    to={`/p/${project.id}/find`}
                    className="flex items-baseline gap-4 rounded-xl bg-raised px-4 py-3 hover:bg-heather-soft"
                  >
                    <b className="text-[17px]">{project.name}</b>
                    <span className="min-w-0 flex-1 truncate text-quiet">
                      {project.folder}
                      {project.only ? `/${project.only}` : ""}
                    </span>
                    <span className="text-quiet">
                      opened {new Date(project.opened).toLocaleDateString("en-GB")}
                    </span>
                  </Link>
                </li>
              ))}
            </ul>
          </section>
        )}
      </div>
    </div>
  );
}

function Step({
  number,
  icon: Icon,
  title,
  children,
}: {
  number: number;
  icon: typeof Hammer;
  title: string;
  children: React.ReactNode;
}) {
  return (
    <li className="rounded-xl bg-raised p-4">
      <Icon aria-hidden className="mb-2 size-7 text-heather" strokeWidth={1.6} />
      <b className="text-[17px]">
        {number}. {title}
      </b>
      <p className="mt-0.5 text-quiet">{children}</p>
    </li>
  );
}

/** What was recognised in a game, and what is proved. */
function OpenedGame({ project }: { project: string }) {
  const { data, error } = useProject(project);
  const again = useOpenAgain();
  if (error) return <Empty title="This game cannot be shown">{error.message}</Empty>;
  if (!data) return null;
  // What was found by its signs is told with the file that nobody has described.
  const archives = data.archives.filter((archive) => archive.layout !== BY_SIGNS);
  return (
    <div className="h-full overflow-auto">
      <div className="mx-auto grid max-w-4xl gap-6 px-8 py-8">
        <div className="flex items-start gap-4">
          <div className="min-w-0 flex-1">
            <h1 className="text-[26px] font-bold">{data.name}</h1>
            <Copyable value={data.folder} className="text-quiet" />
            <p className="mt-1 text-quiet">
              {many(data.files_seen, "file")} looked at, {many(archives.length, "archive")} recognised,{" "}
              {many(data.loose_files, "loose file")} with pictures, sounds or texts
            </p>
          </div>
          <Link
            to={`/p/${project}/layouts`}
            className="rounded-lg bg-sunk px-3.5 py-1.5 whitespace-nowrap hover:bg-line"
          >
            Layouts
          </Link>
          <Button onClick={() => again.mutate(project)} disabled={again.isPending}>
            <RefreshCw aria-hidden className="size-4" /> Look again
          </Button>
          {data.counts.members > 0 && (
            <Link
              to={`/p/${project}/find`}
              className="rounded-lg bg-gorse px-3.5 py-1.5 font-bold whitespace-nowrap text-gorse-ink"
            >
              See what is inside
            </Link>
          )}
        </div>
        {data.game && <KnownGame project={project} game={data.game} />}
        {data.game_faults.map((fault) => (
          <p key={fault} className="rounded-lg bg-rust-soft p-3">
            {fault}. The game needs both.
          </p>
        ))}
        {data.layout_faults.map((fault) => (
          <p key={`${fault.layout}${fault.line}`} className="rounded-lg bg-rust-soft p-3">
            <b>
              Layout {fault.layout}
              {fault.line ? `, line ${fault.line}` : ""}:
            </b>{" "}
            {fault.message} {fault.expected && `Expected ${fault.expected}.`} {fault.remedy}
          </p>
        ))}
        <Contents project={project} />
        {archives.length === 0 && <Undescribed project={data} />}
        <ul className="grid gap-3">
          {archives.slice(0, MOST_CARDS).map((archive) => (
            <ArchiveCard key={archive.address} archive={archive} />
          ))}
        </ul>
        {archives.length > MOST_CARDS && (
          <p className="text-quiet">
            and {many(archives.length - MOST_CARDS, "more archive")} inside these; Find shows them all
          </p>
        )}
        {archives.length > 0 && <UnknownMembers project={project} />}
        {archives.length > 0 && <Undescribed project={data} />}
      </div>
    </div>
  );
}

/** Which game and edition this was recognised as; a person may know better. */
function KnownGame({ project, game }: { project: string; game: NonNullable<Project["game"]> }) {
  const choose = useChoose(project);
  const said = game.editions.find(({ name }) => name === game.edition);
  return (
    <div className="flex flex-wrap items-center gap-3">
      <span>
        Recognised as <b>{game.title}</b>
      </span>
      {game.editions.length > 1 && (
        <label className="flex items-center gap-2">
          edition
          <select
            className="rounded-lg border border-line bg-raised px-2 py-1.5"
            value={game.chosen_edition ?? ""}
            onChange={(event) => choose.mutate({ edition: event.target.value })}
          >
            <option value="">{said ? `${said.title} (by its files)` : "not told by its files"}</option>
            {game.editions.map(({ name, title }) => (
              <option key={name} value={name}>
                {title}
              </option>
            ))}
          </select>
        </label>
      )}
    </div>
  );
}

const MOST_CARDS = 60;

const NOTHING_NARROWED: Search = {
  q: "",
  where: [],
  folder: null,
  in_work: false,
  order: "kind",
  group: "",
  like: "",
};

/** What is inside, by kind; each leads to the light table. */
function Contents({ project }: { project: string }) {
  const { data } = useFacets(project, NOTHING_NARROWED);
  const kinds = useKinds().data?.kinds;
  const inside = data?.facets.find((facet) => facet.name === "kind")?.values ?? [];
  return (
    <ul className="flex flex-wrap gap-3" aria-label="What is inside">
      {inside.map(({ value, count: number }) => {
        const Icon = signOf(value);
        return (
          <li key={value} className="flex-1">
            <Link
              to={`/p/${project}/find?where=kind:${value}`}
              className="flex items-center gap-3 rounded-xl bg-raised p-4 hover:bg-heather-soft"
            >
              <Icon aria-hidden className="size-7 text-heather" strokeWidth={1.6} />
              <span>
                <b className="block text-[20px] leading-tight">{count(number)}</b>
                <span className="text-quiet">{titlesOf(kinds, value).toLowerCase()}</span>
              </span>
            </Link>
          </li>
        );
      })}
    </ul>
  );
}

function ArchiveCard({ archive }: { archive: Project["archives"][number] }) {
  const { proof } = archive;
  const levels = archive.address.split("//");
  return (
    <li className="rounded-xl bg-raised p-5" style={{ marginLeft: (levels.length - 1) * 28 }}>
      <div className="flex items-baseline gap-3">
        <h2 className="text-[18px] font-bold">{levels.at(-1)}</h2>
        <span className="text-quiet">{archive.title}</span>
        <span className="flex-1" />
        <span>{many(archive.member_count, "member")}</span>
      </div>
      <p className="mt-1 text-quiet">
        {levels.length > 1
          ? `inside ${levels.slice(0, -1).join(" · ")}`
          : Object.values(archive.files).join(" and ")}
      </p>
      {proof == null ? (
        <p className="mt-3 text-quiet">Its proof is being worked out.</p>
      ) : proof.exact && contradicted(archive.evidence) ? (
        <p className="mt-3 flex items-start gap-2 text-rust">
          <ShieldAlert aria-hidden className="mt-0.5 size-5 shrink-0" />
          <span>
            <b>Nothing would be lost, but the description looks wrong.</b> A rebuild equals the original byte
            for byte; yet the members contradict it. Look at some of them before you change one.
          </span>
        </p>
      ) : proof.exact ? (
        <p className="mt-3 flex items-start gap-2 text-moss">
          <BadgeCheck aria-hidden className="mt-0.5 size-5 shrink-0" />
          <span>
            <b>Proved.</b> An unchanged rebuild equals the original byte for byte, and all{" "}
            {many(proof.members, "member")} were unpacked and checked. It can be built.
          </span>
        </p>
      ) : (
        <p className="mt-3 flex items-start gap-2 text-rust">
          <ShieldAlert aria-hidden className="mt-0.5 size-5 shrink-0" />
          <span>
            <b>Read-only.</b> {archive.fault ?? proof.reason}{" "}
            {proof.offset != null && (
              <>
                at <Copyable value={String(proof.offset)} />
              </>
            )}{" "}
            {proof.field && <>in {proof.field}</>}
            {proof.remedy && (
              <>
                <br />
                This line of the layout would explain it: <Copyable value={proof.remedy} />
              </>
            )}
          </span>
        </p>
      )}
      {contradicted(archive.evidence) && (
        <div className="mt-2">
          <Evidence evidence={archive.evidence} />
        </div>
      )}
    </li>
  );
}
