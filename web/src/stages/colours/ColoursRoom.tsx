/** One change of colours over many pictures: all of them show it while the steps are put together. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useDeferredValue, useEffect, useState } from "react";
import { Link, useLocation } from "react-router";
import { toast } from "sonner";
import { client, take } from "../../api/client";
import { showProblem, useEdits, useJobs } from "../../api/queries";
import { Button, Choice, Empty } from "../../components/controls";
import { ENTRY, Menu } from "../../components/Menu";
import { Pane, Panes } from "../../components/Panes";
import { baseName, count, isActive, many } from "../../lib/format";
import { useWide } from "../../lib/wide";
import { StepCard } from "./StepCard";
import { asked, CHANGES, type Change, fresh, type Listed, listed, moved, type Step } from "./steps";

type Shown = "after" | "before";
type Result = { done: number; same: string[]; painted: string[]; faults: unknown[] };

export function ColoursRoom({ project }: { project: string }) {
  const addresses = ((useLocation().state as { addresses?: string[] } | null)?.addresses ?? []) as string[];
  if (addresses.length === 0)
    return (
      <Empty title="No pictures are chosen">
        Choose pictures on{" "}
        <Link to={`/p/${project}/find?where=kind:texture`} className="underline underline-offset-4">
          Find
        </Link>{" "}
        (Ctrl and Shift choose many), then press <b>Colours</b> above them.
      </Empty>
    );
  return <Room key={addresses.join("\n")} project={project} addresses={addresses} />;
}

function Room({ project, addresses }: { project: string; addresses: string[] }) {
  const [list, setList] = useState<Listed[]>(() => listed([fresh("hue")]));
  const [title, setTitle] = useState("");
  const [shown, setShown] = useState<Shown>("after");
  const { colourless, looked } = useColourless(project, addresses);
  const [own, setOwn] = useState<ReadonlyMap<string, boolean>>(new Map());
  // A map that holds no colours is left as it is, unless a person says otherwise.
  const left = new Set(addresses.filter((address) => own.get(address) ?? colourless.has(address)));
  const [job, setJob] = useState<number | null>(null);
  const wide = useWide();
  const wanted = addresses.filter((address) => !left.has(address));
  const steps = asked(list);
  const running = useJobs().data?.find((one) => one.id === job);
  const busy = running !== undefined && isActive(running);
  const colour = useMutation({
    mutationFn: () =>
      take(
        client.POST("/api/projects/{project_id}/colours", {
          params: { path: { project_id: project } },
          body: { addresses: wanted, steps: { title, steps } },
        }),
      ),
    onSuccess: ({ id }) => setJob(id),
    onError: showProblem,
  });
  const back = useMutation({
    mutationFn: () =>
      take(
        client.POST("/api/projects/{project_id}/colours/back", {
          params: { path: { project_id: project } },
          body: { addresses: wanted },
        }),
      ),
    onSuccess: () => setJob(null),
    onError: showProblem,
  });
  useSteps(project, addresses[0] ?? "", (now, name) => {
    setList(listed(now));
    setTitle(name);
  });
  const put = (at: number, step: Step) =>
    setList(list.map((one, other) => (other === at ? { ...one, step } : one)));
  const told = running?.state === "done" ? (running.result as unknown as Result) : null;
  return (
    <Panes id="colours">
      <Pane id="steps" size={wide ? 400 : 350} least={320} most={560}>
        <div className="flex min-h-0 grow flex-col gap-3 overflow-auto px-5 pt-1 pb-4">
          <Kept
            title={title}
            steps={steps}
            onTitle={setTitle}
            onSteps={(next, name) => {
              setList(listed(next));
              setTitle(name);
            }}
          />
          <ol className="grid gap-3">
            {list.map(({ key, step }, at) => (
              <StepCard
                key={key}
                step={step}
                place={at}
                many={list.length}
                addresses={addresses}
                onChange={(next) => put(at, next)}
                onMove={(by) => setList(moved(list, at, by))}
                onRemove={() => setList(list.filter((_, other) => other !== at))}
              />
            ))}
          </ol>
          <Menu words="One step more" align="start" look="self-start bg-sunk hover:bg-line">
            {(Object.keys(CHANGES) as Change[])
              .filter((change) => change !== "curve")
              .map((change) => (
                <DropdownMenu.Item
                  key={change}
                  className={ENTRY}
                  onSelect={() => setList([...list, ...listed([fresh(change)])])}
                >
                  {CHANGES[change].title}
                </DropdownMenu.Item>
              ))}
          </Menu>
          <AsText title={title} steps={steps} onSteps={(next) => setList(listed(next))} onTitle={setTitle} />
        </div>
      </Pane>
      <Pane id="pictures">
        <div className="flex items-center gap-3 px-4 pt-1 pb-3">
          <Choice
            label="What is shown"
            value={shown}
            onChange={setShown}
            options={[
              ["after", "After"],
              ["before", "Before"],
            ]}
          />
          <span className="min-w-0 grow text-balance text-quiet leading-tight" role="status">
            {told ? outcome(told) : many(wanted.length, "picture")}
            {left.size > 0 && `, ${count(left.size)} left as they are`}
          </span>
          {told && told.done > 0 && (
            <Button look="quiet" disabled={back.isPending} onClick={() => back.mutate()}>
              Take them back
            </Button>
          )}
          <Button
            look="act"
            disabled={
              busy ||
              colour.isPending ||
              steps.length === 0 ||
              wanted.length === 0 ||
              looked < addresses.length
            }
            onClick={() => colour.mutate()}
          >
            {busy
              ? "Changing them …"
              : `Change ${wanted.length === 1 ? "it" : `these ${count(wanted.length)}`}`}
          </Button>
        </div>
        <Tiles
          project={project}
          addresses={addresses}
          steps={shown === "after" ? steps : []}
          left={left}
          colourless={colourless}
          onLeave={(address) => setOwn(new Map(own).set(address, !left.has(address)))}
        />
      </Pane>
    </Panes>
  );
}

const AT_ONCE = 24;

/** Why colour steps are no good for some of them, as far as they have been looked at: those in sight come first. */
function useColourless(project: string, addresses: string[]) {
  const [colourless, setKnown] = useState<ReadonlyMap<string, string>>(new Map());
  const [looked, setLooked] = useState(0);
  useEffect(() => {
    let here = true;
    const look = async () => {
      for (let at = 0; here && at < addresses.length; at += AT_ONCE) {
        const found = await take(
          client.POST("/api/projects/{project_id}/colours/look", {
            params: { path: { project_id: project } },
            body: { addresses: addresses.slice(at, at + AT_ONCE), side: 160 },
          }),
        );
        if (here && Object.keys(found).length)
          setKnown((before) => new Map([...before, ...Object.entries(found)]));
        if (here) setLooked(at + AT_ONCE);
      }
    };
    look().catch(showProblem);
    return () => {
      here = false;
    };
  }, [project, addresses]);
  return { colourless, looked };
}

function outcome({ done, same, painted, faults }: Result): string {
  const parts = [`${many(done, "picture")} changed`];
  if (same.length) parts.push(`${count(same.length)} have nothing that the steps reach`);
  if (painted.length) parts.push(`${count(painted.length)} painted since, so left as they are`);
  if (faults.length) parts.push(`${count(faults.length)} could not be changed`);
  return parts.join("; ");
}

/** Steps that an item's colours were changed by before are here again. */
function useSteps(project: string, address: string, onKnown: (steps: Step[], title: string) => void) {
  const { data } = useQuery({
    queryKey: ["colours-now", project, address],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/colours/now", {
          params: { path: { project_id: project }, query: { address } },
        }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 0,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when it is known
  useEffect(() => {
    if (data) onKnown(data.steps as Step[], data.title);
  }, [data]);
}

function Tiles({
  project,
  addresses,
  steps,
  left,
  colourless,
  onLeave,
}: {
  project: string;
  addresses: string[];
  steps: Step[];
  left: ReadonlySet<string>;
  colourless: ReadonlyMap<string, string>;
  onLeave: (address: string) => void;
}) {
  // A slider that is dragged asks for the last place, not for each one on the way.
  const said = useDeferredValue(useRested(steps.length ? JSON.stringify({ steps }) : ""));
  const { data: edits = [] } = useEdits(project);
  const version = new Map(edits.map((edit) => [edit.address, edit.position]));
  const [most, setMost] = useState(MOST_SHOWN);
  return (
    <ul className="grid min-h-0 flex-1 auto-rows-min grid-cols-[repeat(auto-fill,minmax(132px,1fr))] gap-3 overflow-auto px-4 pb-4">
      {addresses.slice(0, most).map((address) => {
        const out = left.has(address);
        const query = new URLSearchParams({
          address,
          side: "160",
          steps: out ? "" : said,
          version: String(version.get(address) ?? 0),
        });
        return (
          <li key={address} className="[contain-intrinsic-size:auto_168px] [content-visibility:auto]">
            <button
              type="button"
              aria-pressed={out}
              title={out ? "Change this one too" : "Leave this one as it is"}
              className="grid w-full gap-0.5 rounded-lg text-left hover:bg-sunk"
              onClick={() => onLeave(address)}
            >
              <span className="ground relative grid aspect-square place-items-center overflow-hidden rounded-lg p-1.5">
                <img
                  src={`/api/projects/${project}/colours/preview?${query}`}
                  alt=""
                  loading="lazy"
                  className={`absolute inset-1.5 size-[calc(100%-12px)] object-scale-down ${out ? "opacity-60" : ""}`}
                />
                {out && (
                  <span className="absolute bottom-1.5 left-1.5 rounded-full bg-paper px-2 text-[12.5px] text-ink">
                    {colourless.get(address) ?? "left as it is"}
                  </span>
                )}
              </span>
              <span className="truncate px-1 text-[14px]">
                {baseName(address)}
                {!out && <span className="sr-only"> is changed</span>}
              </span>
            </button>
          </li>
        );
      })}
      {addresses.length > most && (
        <li className="col-span-full py-2">
          <Button onClick={() => setMost(most + MOST_SHOWN)}>
            Show more; {count(addresses.length - most)} are not shown, and change like these
          </Button>
        </li>
      )}
    </ul>
  );
}

/** Pictures that stand there at once: a page of ten thousand would be slow. */
const MOST_SHOWN = 400;
const REST = 120;

/** A value that has rested for a moment. */
function useRested<T>(value: T): T {
  const [rested, setRested] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setRested(value), REST);
    return () => clearTimeout(timer);
  }, [value]);
  return rested;
}

/** Steps by name, for the next time and for other games. */
function Kept({
  title,
  steps,
  onTitle,
  onSteps,
}: {
  title: string;
  steps: Step[];
  onTitle: (title: string) => void;
  onSteps: (steps: Step[], title: string) => void;
}) {
  const queries = useQueryClient();
  const { data: all = [] } = useQuery({
    queryKey: ["colours"],
    queryFn: () => take(client.GET("/api/colours")),
  });
  const keep = useMutation({
    mutationFn: (name: string) =>
      take(client.PUT("/api/colours/{name}", { params: { path: { name } }, body: { title: name, steps } })),
    onSuccess: (now, name) => {
      queries.setQueryData(["colours"], now);
      toast.success(`Kept as ${name}`);
    },
    onError: showProblem,
  });
  const forget = useMutation({
    mutationFn: (name: string) => take(client.DELETE("/api/colours/{name}", { params: { path: { name } } })),
    onSuccess: (now) => queries.setQueryData(["colours"], now),
    onError: showProblem,
  });
  const named = title.trim();
  const known = all.some(({ name }) => name === named);
  return (
    <div className="flex items-center gap-2">
      <input
        aria-label="Name of these steps"
        placeholder="A name, to keep them"
        className="w-0 min-w-0 grow rounded-lg border border-line bg-raised px-3 py-1.5"
        value={title}
        maxLength={60}
        onChange={(event) => onTitle(event.target.value)}
      />
      <Button disabled={!named || steps.length === 0 || keep.isPending} onClick={() => keep.mutate(named)}>
        Keep
      </Button>
      {all.length > 0 && (
        <Menu words="Kept">
          {all.map(({ name, steps: own }) => (
            <DropdownMenu.Item
              key={name}
              className={ENTRY}
              onSelect={() => onSteps(own.steps as Step[], name)}
            >
              {name}
            </DropdownMenu.Item>
          ))}
          {known && (
            <>
              <DropdownMenu.Separator className="my-1 h-px bg-line" />
              <DropdownMenu.Item className={ENTRY} onSelect={() => forget.mutate(named)}>
                Keep “{named}” no longer
              </DropdownMenu.Item>
            </>
          )}
        </Menu>
      )}
    </div>
  );
}

/** The same as text, to give to others, to take from them, and for what has no control above. */
function AsText({
  title,
  steps,
  onSteps,
  onTitle,
}: {
  title: string;
  steps: Step[];
  onSteps: (steps: Step[]) => void;
  onTitle: (title: string) => void;
}) {
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState<string | null>(null);
  const said = useRested(JSON.stringify({ title, steps }));
  const { data } = useQuery({
    queryKey: ["colours-text", said],
    queryFn: () => take(client.POST("/api/colours/written", { body: JSON.parse(said) })),
    enabled: open && steps.length > 0,
    placeholderData: keepPreviousData,
    gcTime: 0,
  });
  const read = useMutation({
    mutationFn: (text: string) => take(client.POST("/api/colours/read", { body: { text } })),
    onSuccess: (now) => {
      onSteps(now.steps as Step[]);
      onTitle(now.title);
      setTyped(null);
    },
    onError: showProblem,
  });
  if (!open)
    return (
      <button
        type="button"
        className="self-start text-quiet underline underline-offset-4"
        onClick={() => setOpen(true)}
      >
        As text, to give to others
      </button>
    );
  const text = typed ?? data?.text ?? "";
  return (
    <section className="grid gap-2" aria-label="The steps as text">
      <textarea
        aria-label="The steps as text"
        spellCheck={false}
        rows={Math.min(Math.max(text.split("\n").length + 1, 4), 16)}
        className="w-full rounded-lg border border-line bg-raised p-2.5 font-mono text-[13.5px]"
        value={text}
        onChange={(event) => setTyped(event.target.value)}
      />
      <div className="flex gap-2">
        <Button disabled={typed === null || read.isPending} onClick={() => read.mutate(text)}>
          Take this text
        </Button>
        <Button
          look="quiet"
          onClick={() => {
            setOpen(false);
            setTyped(null);
          }}
        >
          Close
        </Button>
      </div>
    </section>
  );
}
