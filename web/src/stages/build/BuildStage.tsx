import { CheckCircle2, Hammer, RotateCcw, ShieldCheck, TriangleAlert } from "lucide-react";
import { AlertDialog } from "radix-ui";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Edit, Schemas } from "../../api/client";
import {
  useBuild,
  useBuilds,
  useChoose,
  useCopies,
  useEdits,
  useGameFiles,
  useJobs,
  useOpenAgain,
  usePlan,
  useProject,
  useRestore,
} from "../../api/queries";
import { faceOf } from "../../assets/registry";
import { Button, Copyable } from "../../components/controls";
import { useFirst } from "../../components/useFirst";
import { bytes, count, isActive, many, progress } from "../../lib/format";

const WAYS = {
  patch: "patched in place",
  rebuild: "rebuilt",
  replace: "replaced",
  restore: "put back as it was",
  create: "a new file",
  remove: "taken away again",
} as const;

/** What a build will do, doing it, and putting everything back. */
export function BuildStage({ project }: { project: string }) {
  const plan = usePlan(project);
  const { data: jobs = [] } = useJobs();
  const build = useBuild(project);
  const running = jobs.find(
    (job) => (job.kind === "build" || job.kind === "restore") && job.project_id === project && isActive(job),
  );
  const data = plan.data;
  // What is pressed while the plan is worked out again waits for it: a button that goes dead now and then is missed.
  const start = async () => {
    const now = plan.isFetching ? (await plan.refetch({ cancelRefetch: false })).data : data;
    if (now && canStart(now) && now.asks.length === 0) build.mutate(false);
  };
  const go = (act?: () => void) => (
    <Button look="act" className="px-5 py-2.5 text-[16px]" disabled={build.isPending} onClick={act}>
      <Hammer aria-hidden className="size-5" /> Build
    </Button>
  );
  return (
    <div className="h-full overflow-auto">
      <div className="mx-auto grid max-w-6xl grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-8 px-8 py-6">
        <section className="grid content-start gap-4" aria-label="Plan" aria-busy={plan.isFetching}>
          {/* What is pressed stands above all that comes later, so that it stays where it is. */}
          <div className="flex min-h-12 flex-wrap items-center justify-between gap-x-4 gap-y-2">
            <h1 className="text-[26px] font-bold">{data ? title(data) : "Working out the plan…"}</h1>
            {data &&
              !running &&
              canStart(data) &&
              (data.asks.length > 0 ? (
                <Confirm
                  title="May a file become much larger?"
                  words={`${data.asks.join(" ")} The original is kept, and can be put back.`}
                  act="Build all the same"
                  onAct={() => build.mutate(true)}
                >
                  {go()}
                </Confirm>
              ) : (
                go(start)
              ))}
            {data?.up_to_date && data.edits.length > 0 && (
              <Link
                to={`/p/${project}/try`}
                className="rounded-lg bg-gorse px-5 py-2.5 text-[16px] font-bold text-gorse-ink"
              >
                See it in the game
              </Link>
            )}
          </div>
          {running ? (
            <div role="status" className="rounded-xl bg-raised p-4">
              <b>{running.title}…</b>
              <progress
                className="progress mt-2 w-full"
                max={running.total || 1}
                value={running.total ? running.done : undefined}
              />
              <p className="text-quiet">{progress(running)}</p>
            </div>
          ) : (
            data &&
            canStart(data) && (
              <p className="-mt-2 text-quiet">
                Every byte that is replaced is kept first. You can put all of it back.
              </p>
            )
          )}
          {plan.error && <p className="rounded-lg bg-rust-soft p-3">{plan.error.message}</p>}
          <WayBack project={project} />
          {data?.faults.map((fault) => (
            <Fault key={fault.message} project={project} fault={fault} />
          ))}
          {data && data.files.length > 0 && (
            <div className={`grid gap-4 ${plan.isFetching ? "opacity-60" : ""}`}>
              {data.files.map((file) => (
                <FilePlan key={file.path} file={file} />
              ))}
            </div>
          )}
          {data && (
            <Reasons project={project} title="Something speaks against these" reasons={data.warnings} warn />
          )}
          {data && <Reasons project={project} title="Not part of this build" reasons={data.left_out} />}
          <StoredAgain project={project} />
          {data?.up_to_date && data.edits.length > 0 && (
            <InTheGame project={project} addresses={data.edits} />
          )}
        </section>
        <section className="grid content-start gap-4" aria-label="The game's files">
          <GameFiles project={project} />
          <History project={project} />
        </section>
      </div>
    </div>
  );
}

/** Copies that would keep the original's picture: the game may show one of them instead. */
function StoredAgain({ project }: { project: string }) {
  const { data } = useCopies(project);
  const { data: edits } = useEdits(project);
  const changed = new Set(edits?.filter((edit) => edit.position > 0).map((edit) => edit.address));
  const open = Object.entries(data?.of ?? {})
    .filter(([address]) => changed.has(address))
    .map(([address, copies]): [string, number] => [address, copies.filter((copy) => !copy.same).length])
    .filter(([, left]) => left > 0);
  if (open.length === 0) return null;
  return (
    <section className="rounded-xl bg-raised p-4">
      <h2 className="font-bold">Stored again</h2>
      <ul className="mt-1 grid gap-1">
        {open.slice(0, MOST_STORED).map(([address, left]) => (
          <li key={address}>
            <Link
              to={`/p/${project}/edit?${new URLSearchParams({ item: address })}`}
              className="break-all underline underline-offset-4"
            >
              {address.split("//").pop()}
            </Link>{" "}
            is in {many(left, "other place")}, which {left === 1 ? "keeps" : "keep"} the original.
          </li>
        ))}
      </ul>
      {open.length > MOST_STORED && <p>and {count(open.length - MOST_STORED)} more</p>}
    </section>
  );
}

const MOST_STORED = 5;
/** so many rows or pictures of a list are shown at first: thousands of edits may be built at once */
const MOST_SHOWN = 24;

const canStart = (plan: Schemas["BuildPlan"]) => plan.files.length > 0 && plan.faults.length === 0;

function title(plan: Schemas["BuildPlan"]): string {
  if (plan.faults.length > 0) return "This cannot be built yet";
  if (plan.files.length > 0)
    return `${many(plan.edits.length, "edit")} into ${many(plan.files.length, "file")} of the game`;
  if (plan.edits.length > 0) return "The game has your edits";
  return "Nothing to build";
}

/** By which way the edits go into the game, where its profile knows several. */
function WayBack({ project }: { project: string }) {
  const { data } = useProject(project);
  const choose = useChoose(project);
  if (!data?.game || data.game.ways.length < 2) return null;
  const { way, ways } = data.game;
  return (
    <fieldset className="flex flex-wrap items-center gap-x-5 gap-y-1 rounded-xl bg-raised px-4 py-3">
      <legend className="sr-only">The way into the game</legend>
      {ways.map(({ name, title }) => (
        <label key={name} className="flex items-center gap-2">
          <input
            type="radio"
            name="way"
            className="size-4 accent-heather"
            checked={name === way}
            disabled={choose.isPending}
            onChange={() => choose.mutate({ way: name })}
          />
          {title}
        </label>
      ))}
    </fieldset>
  );
}

function Fault({ project, fault }: { project: string; fault: Schemas["Fault"] }) {
  const again = useOpenAgain();
  return (
    <div className="rounded-xl bg-rust-soft p-4">
      <p className="flex items-start gap-2">
        <TriangleAlert aria-hidden className="mt-0.5 size-5 shrink-0 text-rust" />
        <span>
          <b>{fault.address}</b> {fault.message} {fault.remedy}
        </span>
      </p>
      {fault.code === "changed-behind" && (
        <Button className="mt-2" onClick={() => again.mutate(project)}>
          Open the game again
        </Button>
      )}
    </div>
  );
}

function FilePlan({ file }: { file: Schemas["FilePlan"] }) {
  return (
    <article className="rounded-xl bg-raised p-4">
      <div className="flex items-baseline gap-3">
        <h2 className="min-w-0 flex-1 truncate text-[17px] font-bold">{file.path}</h2>
        <b className="text-heather">{WAYS[file.way]}</b>
      </div>
      <p className="text-quiet">
        {file.why}; {bytes(file.size_before)}
        {file.size_after === file.size_before ? ", size unchanged" : ` → ${bytes(file.size_after)}`}
      </p>
      {file.inside.map((step) => (
        <div key={step.address} className="mt-3 border-l-4 border-heather-soft pl-3">
          <p>
            <b>{step.address.split("//").slice(1).join(" · ")}</b>{" "}
            <span className="text-quiet">
              {step.way === "patch" ? "patched" : "rebuilt"} first: {step.why}
            </span>
          </p>
          <Members members={step.members} />
        </div>
      ))}
      <Members members={file.members} />
    </article>
  );
}

const tooLarge = (member: Schemas["MemberPlan"]) => !member.new && member.stored_after > member.slot;

/** Bytes of members before and after, and whether they fit where they lie: those first that do not. */
function Members({ members }: { members: Schemas["MemberPlan"][] }) {
  const sorted = [...members].sort((one, other) => Number(tooLarge(other)) - Number(tooLarge(one)));
  const [shown, rest] = useFirst(sorted, MOST_SHOWN);
  if (members.length === 0) return null;
  return (
    <>
      <table className="mt-2 w-full text-left text-[14.5px]">
        <thead className="text-quiet">
          <tr>
            <th className="font-normal">member</th>
            <th className="text-right font-normal">stored before</th>
            <th className="text-right font-normal">after</th>
            <th className="text-right font-normal">its slot</th>
          </tr>
        </thead>
        <tbody className="tabular-nums">
          {shown.map((member) => (
            <tr key={member.label} className="border-t border-line">
              <td className="py-1 break-all">{member.label}</td>
              <td className="text-right">{member.new ? "new" : count(member.stored_before)}</td>
              <td className="text-right">{count(member.stored_after)}</td>
              <td className={`text-right ${tooLarge(member) ? "font-bold text-rust" : ""}`}>
                {member.new ? "–" : count(member.slot)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {rest}
    </>
  );
}

function Reasons({
  project,
  title,
  reasons,
  warn = false,
}: {
  project: string;
  title: string;
  reasons: Record<string, string>;
  warn?: boolean;
}) {
  const [shown, rest] = useFirst(Object.entries(reasons), MOST_SHOWN);
  if (shown.length === 0) return null;
  return (
    <div className={warn ? "rounded-xl bg-rust-soft p-4" : ""}>
      <h2 className="font-bold">{title}</h2>
      <ul>
        {shown.map(([address, why]) => (
          <li key={address} className={warn ? "" : "text-quiet"}>
            <Link
              className="underline underline-offset-4"
              to={`/p/${project}/edit?item=${encodeURIComponent(address)}`}
            >
              {address.split("//").at(-1)}
            </Link>
            : {why}
          </li>
        ))}
      </ul>
      {rest}
    </div>
  );
}

/** What the game holds now: each edit beside its original. */
function InTheGame({ project, addresses }: { project: string; addresses: string[] }) {
  const { data: edits = [] } = useEdits(project);
  const held = new Set(addresses);
  const [shown, rest] = useFirst(
    edits.filter((edit) => held.has(edit.address)),
    MOST_SHOWN,
  );
  return (
    <>
      <ul className="grid grid-cols-2 gap-3">
        {shown.map((edit) => (
          <li key={edit.address} className="rounded-xl bg-raised p-3">
            <div className="flex gap-1.5">
              {(["original", "edit"] as const).map((which) => (
                <span key={which} className="ground h-32 flex-1 overflow-hidden rounded-lg p-1">
                  <Small project={project} edit={edit} which={which} />
                </span>
              ))}
            </div>
            <p className="mt-1 truncate">{edit.name}</p>
          </li>
        ))}
      </ul>
      {rest}
    </>
  );
}

function GameFiles({ project }: { project: string }) {
  const { data: files = [] } = useGameFiles(project);
  const restore = useRestore(project);
  const changed = files.filter((file) => file.state !== "original");
  const same = files.length - changed.length;
  return (
    <div className="grid gap-3">
      <h2 className="text-[18px] font-bold">The game's files</h2>
      {changed.map((file) => (
        <div key={file.path} className="rounded-xl bg-raised p-4">
          <div className="flex items-baseline gap-2">
            <b className="min-w-0 flex-1 truncate">{file.path}</b>
            <span className="text-heather">{file.state}</span>
          </div>
          <p className="text-[14.5px] text-quiet">
            {file.state === "created"
              ? "Brae made this file; putting it back takes it away."
              : file.kept_whole
                ? `The whole original is kept (${bytes(file.size)}).`
                : `The ${count(file.kept_bytes)} replaced bytes are kept.`}
          </p>
          {file.changed_behind && <p className="text-rust">{file.changed_behind}</p>}
          <Confirm
            title={`Put ${file.path} back?`}
            words={`The file becomes what it was when the game was opened, checked by its hash. ${
              file.changed_behind ? "What lies there now is kept too. " : ""
            }Your edits stay and can be built again.`}
            act="Put it back"
            onAct={() => restore.mutate({ paths: [file.path], force: !!file.changed_behind })}
          >
            <Button look="quiet">Put back this file</Button>
          </Confirm>
        </div>
      ))}
      <p className="flex items-center gap-2 text-quiet">
        <ShieldCheck aria-hidden className="size-5 text-moss" />
        {changed.length === 0
          ? `${many(files.length, "file")}, all as they were.`
          : `${many(same, "other file")} untouched.`}
      </p>
      {files
        .filter((file) => file.changed_behind && file.state === "original")
        .map((file) => (
          <p key={file.path} className="rounded-lg bg-rust-soft p-3">
            <b>{file.path}</b> {file.changed_behind}
          </p>
        ))}
      {changed.length > 0 && (
        <Confirm
          title="Put every original back?"
          words={`${many(changed.length, "file")} of the game ${changed.length === 1 ? "becomes what it was" : "become what they were"} when it was opened, checked by hash. Your edits stay and can be built again.`}
          act="Put all of it back"
          onAct={() => restore.mutate({ paths: null })}
        >
          <Button className="justify-self-start" disabled={restore.isPending}>
            <RotateCcw aria-hidden className="size-4" /> Restore every original
          </Button>
        </Confirm>
      )}
      {files[0] && (
        <details>
          <summary className="cursor-pointer text-quiet">Hashes of the originals (SHA-256)</summary>
          {files.map((file) => (
            <p key={file.path} className="mt-1 text-[13.5px]">
              {file.path} <Copyable value={file.sha256} />
            </p>
          ))}
        </details>
      )}
    </div>
  );
}

function Confirm({
  title,
  words,
  act,
  onAct,
  children,
}: {
  title: string;
  words: string;
  act: string;
  onAct: () => void;
  children: ReactNode;
}) {
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger asChild>{children}</AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 bg-black/50" />
        <AlertDialog.Content className="fixed top-[24vh] left-1/2 w-[460px] -translate-x-1/2 rounded-2xl bg-raised p-6 shadow-2xl">
          <AlertDialog.Title className="text-[19px] font-bold">{title}</AlertDialog.Title>
          <AlertDialog.Description className="mt-1 text-quiet">{words}</AlertDialog.Description>
          <div className="mt-4 flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Leave it</Button>
            </AlertDialog.Cancel>
            <AlertDialog.Action asChild>
              <Button look="act" onClick={onAct}>
                {act}
              </Button>
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

function History({ project }: { project: string }) {
  const { data: builds = [] } = useBuilds(project);
  if (builds.length === 0) return null;
  return (
    <div>
      <h2 className="mb-1 text-[18px] font-bold">What was done</h2>
      <ul className="grid gap-1">
        {builds.slice(0, 12).map((build) => (
          <li key={build.id} className="flex gap-2 text-[14.5px]">
            <CheckCircle2 aria-hidden className="mt-1 size-4 shrink-0 text-moss" />
            <span>
              {build.what === "build" ? `Built ${many(build.edits.length, "edit")}` : "Put originals back"}:{" "}
              {build.files.map((file) => file.path.split("/").at(-1)).join(", ")}
              <span className="text-quiet"> · {new Date(build.made).toLocaleString("en-GB")}</span>
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}

function Small(props: { project: string; edit: Edit; which: "original" | "edit" }) {
  const face = faceOf(props.edit.kind);
  return <face.Small {...props} />;
}
