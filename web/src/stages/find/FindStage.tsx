import { LayoutGrid, List, ListFilter, X } from "lucide-react";
import { Popover } from "radix-ui";
import { useEffect, useRef, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { Link, Navigate, useLocation, useNavigate } from "react-router";
import { type Member, Problem } from "../../api/client";
import { useJobs, useLike, useProject, usePutInWork, usePutManyInWork, useTakeAway } from "../../api/queries";
import { type Kind, useKinds } from "../../assets/kinds";
import { canEdit, titlesOf } from "../../assets/registry";
import { Button, Choice, Empty } from "../../components/controls";
import { Pane, Panes } from "../../components/Panes";
import { count, isActive, many } from "../../lib/format";
import { BY_KEY } from "../../lib/keys";
import { useWide } from "../../lib/wide";
import { ByPicture, LookedFor } from "./ByPicture";
import { columnsOf, keepColumns, keptColumns } from "./columns";
import { Detail } from "./Detail";
import { Facets } from "./Facets";
import { Folders } from "./Folders";
import { ColumnChoice, Heads } from "./Heads";
import { LightTable, type TableView } from "./LightTable";
import { Marks } from "./Marks";
import { Searches } from "./Searches";
import { chosenOf, NONE, type Selection } from "./selection";
import { addressesOf, useCatalogue, useGroups, useSearch } from "./useCatalogue";

/** The catalogue: everything as pictures at once, narrowed by facets and search. */
export function FindStage({ project }: { project: string }) {
  const [typed, change] = useSearch();
  // Until it is known what a picture shows, all is there to look at.
  const looking = useLike(project, typed.like).data?.ready !== true;
  const search = typed.like && looking ? { ...typed, like: "", order: "kind" } : typed;
  const catalogue = useCatalogue(project, search);
  const groups = useGroups(project, search);
  const [view, setView] = useState<TableView>(keptView);
  const [tile, setTile] = useState(132);
  const [shown, setShown] = useState(keptColumns);
  const [focused, setFocused] = useState(0);
  const [selection, setSelection] = useState<Selection>(NONE);
  const known = useKinds().data;
  const field = useRef<HTMLInputElement>(null);
  const putInWork = usePutInWork(project);
  const editMany = usePutManyInWork(project);
  const takeAway = useTakeAway(project);
  const [leaving, setLeaving] = useState<string | null>(null);
  const opened = useProject(project).data?.opened ?? "";
  const { data: jobs = [] } = useJobs();
  const listing = jobs.some((job) => job.kind === "open" && isActive(job) && job.project_id === project);
  const navigate = useNavigate();
  const current = catalogue.at(focused);
  useHotkeys("/", () => field.current?.focus(), { ...BY_KEY, preventDefault: true });
  const conditions = JSON.stringify(search);
  const chosen = chosenOf(selection, catalogue.total);
  const choose = async () => (await addressesOf(project, search, selection)).addresses;
  const columns = columnsOf(known?.kinds);
  const visible = columns.filter(({ id }) => shown.includes(id));

  const wide = useWide();

  const edit = (member: Member | undefined) => {
    if (!member) return;
    const look = () => navigate(`/p/${project}/edit?item=${encodeURIComponent(member.address)}`);
    if (member.edit) look();
    else if (
      canEdit(
        known?.kinds.find((kind) => kind.id === member.kind),
        member,
      )
    )
      putInWork.mutate([member.address], { onSuccess: look });
  };
  const narrowed = search.like
    ? false
    : search.q || search.where.length || search.folder !== null || search.in_work;

  return (
    <Panes id="find">
      {wide && (
        <Pane id="facets" size={208} most={420}>
          <Facets project={project} search={search} onChange={change} />
        </Pane>
      )}
      <Pane id="table">
        <ByPicture project={project} onFound={(like) => change({ ...EVERYTHING, like })}>
          {(byPicture) => (
            <>
              <div className="flex flex-wrap items-center gap-2 px-4 pt-1 pb-3">
                <SearchField field={field} value={search.q} onChange={(q) => change({ q })}>
                  <Searches project={project} search={search} onChange={change} />
                  {byPicture}
                </SearchField>
                <span className="text-quiet" role="status">
                  {catalogue.ready ? many(catalogue.total, "item") : ""}
                  {readAs(catalogue.readAs)}
                </span>
                {narrowed ? (
                  <button
                    type="button"
                    className="flex items-center gap-1 text-quiet hover:text-ink"
                    onClick={() => change({ ...EVERYTHING, like: typed.like })}
                  >
                    <X aria-hidden className="size-4" /> show all
                  </button>
                ) : null}
                {!wide && (
                  <Narrow
                    conditions={search.where.length + Number(search.in_work) + Number(search.folder !== null)}
                  >
                    <Facets project={project} search={search} onChange={change} />
                  </Narrow>
                )}
                <Folders
                  project={project}
                  search={search}
                  total={catalogue.total}
                  chosen={chosen > 1 && selection !== "all" ? chosen : 0}
                  choose={choose}
                />
                <select
                  aria-label="Group by"
                  title="Group by"
                  className="w-26 rounded-lg border border-line bg-raised px-2 py-1.5 text-ink"
                  value={search.group}
                  onChange={(event) => change({ group: event.target.value })}
                >
                  <option value="">no groups</option>
                  {known?.groupings.map(({ id, words }) => (
                    <option key={id} value={id}>
                      by {words}
                    </option>
                  ))}
                </select>
                {view === "pictures" ? (
                  <select
                    aria-label="Order by"
                    title="Order by"
                    className="w-22 rounded-lg border border-line bg-raised px-2 py-1.5 text-ink"
                    value={search.order}
                    onChange={(event) => change({ order: event.target.value })}
                  >
                    {ordersWith(known?.orders, search.order).map(({ id, words }) => (
                      <option key={id} value={id}>
                        {words}
                      </option>
                    ))}
                  </select>
                ) : (
                  <ColumnChoice
                    columns={columns}
                    shown={shown}
                    onChange={(next) => {
                      keepColumns(next);
                      setShown(next);
                    }}
                  />
                )}
                <input
                  type="range"
                  aria-label={view === "pictures" ? "Size of the pictures" : "Row height"}
                  title={view === "pictures" ? "Size of the pictures" : "Row height"}
                  min={84}
                  max={260}
                  value={tile}
                  className="w-14 accent-heather"
                  onChange={(event) => setTile(Number(event.target.value))}
                />
                <Choice
                  label="View"
                  value={view}
                  onChange={(next) => {
                    localStorage.setItem(KEPT_VIEW, next);
                    setView(next);
                  }}
                  options={[
                    ["pictures", <LayoutGrid key="p" aria-label="Pictures" className="my-0.5 size-4" />],
                    ["list", <List key="l" aria-label="List" className="my-0.5 size-4" />],
                  ]}
                />
              </div>
              {typed.like && (
                <LookedFor
                  project={project}
                  like={typed.like}
                  current={current?.address}
                  opened={opened}
                  onEnd={() => change({ like: "" })}
                />
              )}
              {view === "list" && catalogue.total > 0 && (
                <Heads columns={visible} order={search.order} onOrder={(order) => change({ order })} />
              )}
              {catalogue.error ? (
                <Empty title="This cannot be shown now">
                  {catalogue.error.message} {catalogue.error instanceof Problem && catalogue.error.remedy}
                </Empty>
              ) : search.like && !narrowed && catalogue.total === 0 ? null : catalogue.ready &&
                catalogue.total === 0 ? (
                <Nothing
                  project={project}
                  listing={listing}
                  narrowed={Boolean(narrowed)}
                  puzzling={catalogue.puzzling}
                />
              ) : (
                <LightTable
                  key={conditions}
                  project={project}
                  view={view}
                  tile={tile}
                  columns={visible}
                  search={search}
                  catalogue={catalogue}
                  groups={search.group ? (groups.data ?? null) : null}
                  groupWords={(name) => groupWords(known?.kinds, search.group, name)}
                  onFocus={setFocused}
                  onSelection={setSelection}
                  onOpen={edit}
                  opened={opened}
                />
              )}
              {chosen > 1 && (
                // Below the table, not above it: what is being chosen is not to move.
                <div
                  role="toolbar"
                  aria-label="What is chosen"
                  className="mx-4 my-2 flex flex-wrap items-center gap-2 rounded-xl bg-sunk p-2"
                >
                  <Button look="act" onClick={() => choose().then(editMany)}>
                    Edit these {count(chosen)}
                  </Button>
                  <Button
                    title="Change the colours of all of them by the same steps"
                    onClick={() =>
                      choose().then((addresses) =>
                        navigate(`/p/${project}/colours`, { state: { addresses } }),
                      )
                    }
                  >
                    Colours
                  </Button>
                  <Marks project={project} choose={choose} />
                </div>
              )}
            </>
          )}
        </ByPicture>
      </Pane>
      {(current || catalogue.total > 0) && (
        <Pane id="detail" size={wide ? 300 : 250} least={220} most={620}>
          {current && current.address !== leaving && (
            <Detail
              project={project}
              member={current}
              opened={opened}
              alone={chosen < 2}
              q={search.q}
              onEdit={() => edit(current)}
              onFolder={(folder) => change({ folder, where: [], q: "" })}
              onSearch={(q) => change({ ...EVERYTHING, q })}
              onGo={(address) => change(EVERYTHING, address)}
              onTakeAway={() => {
                // First it is looked at no more: of what is gone nothing more is asked.
                setLeaving(current.address);
                takeAway.mutate(current.address, { onError: () => setLeaving(null) });
              }}
            />
          )}
        </Pane>
      )}
    </Panes>
  );
}

/** The empty table says why it is empty, and leads to where something can be done. */
function Nothing({
  project,
  listing,
  narrowed,
  puzzling,
}: {
  project: string;
  listing: boolean;
  narrowed: boolean;
  puzzling: string[];
}) {
  const fresh = (useLocation().state as { fresh?: boolean } | null)?.fresh ?? false;
  // A new game may be asked about before anything is known of the job that lists it; and what is known of the game
  // may be newer than this table.
  const { data } = useProject(project);
  const looked = (data?.files_seen ?? 0) > 0;
  const late = (data?.counts.members ?? 0) > 0;
  if (narrowed)
    return (
      <Empty title="Nothing fits">
        {puzzling.length
          ? puzzling.map((said) => <p key={said}>{said}</p>)
          : "No item fits all of these conditions. Take one of them away."}
      </Empty>
    );
  if (listing || late || (fresh && !looked))
    return <Empty title="The game is being listed">The first pictures come in a moment.</Empty>;
  if (fresh) return <Navigate to={`/p/${project}/open`} replace />;
  return (
    <Empty title="Nothing to show yet">
      No file of this game is of a kind that Brae knows, and none was found by its signs.{" "}
      <Link to={`/p/${project}/open`} className="underline underline-offset-4">
        See what is known of its files, and describe one
      </Link>
    </Empty>
  );
}

/** The facets where there is no room for them beside the table. */
function Narrow({ conditions, children }: { conditions: number; children: React.ReactNode }) {
  return (
    <Popover.Root>
      <Popover.Trigger className="inline-flex items-center gap-1.5 rounded-lg bg-sunk px-3 py-1.5 whitespace-nowrap hover:bg-line">
        <ListFilter aria-hidden className="size-4" /> Narrow
        {conditions > 0 && (
          <span className="rounded-full bg-heather px-1.5 text-[12.5px] text-paper">{conditions}</span>
        )}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={6}
          className="z-20 flex max-h-[75vh] w-64 flex-col overflow-hidden rounded-xl border border-line bg-raised pt-3 shadow-lg"
        >
          {children}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

/** What was looked for instead of words that are nowhere. */
function readAs(words: Record<string, string[]>): string {
  const read = Object.entries(words).map(([word, meant]) => `“${word}” read as ${meant.join(", ")}`);
  return read.length ? ` (${read.join("; ")})` : "";
}

/** What a group is called; those that are in none come last. */
function groupWords(kinds: Kind[] | undefined, by: string, name: string): string {
  if (name) return by === "kind" ? titlesOf(kinds, name) : name;
  const rest: Record<string, string> = {
    maps: "Belong to no set",
    picture: "There once",
    folder: "In no folder",
    archive: "In no archive",
  };
  return rest[by] ?? "The others";
}

/** A search that leaves nothing out. */
const EVERYTHING = { q: "", where: [], folder: null, in_work: false, like: "" };

const KEPT_VIEW = "brae.find-view";
const keptView = (): TableView => (localStorage.getItem(KEPT_VIEW) === "list" ? "list" : "pictures");

type Named = { id: string; words: string };

/** The orders to choose from, and the one that a column's head gave, if it is none of them. */
function ordersWith(orders: Named[] | undefined, order: string): Named[] {
  const known = orders ?? [];
  if (known.some(({ id }) => id === order)) return known;
  const words = order.startsWith("-") ? `${order.slice(1)}, backwards` : order;
  return [...known, { id: order, words }];
}

/** milliseconds of rest; bytes are looked for in the whole game, so that waits until they are written */
const TYPING = 150;
const BYTES = 900;

/** The search as it is typed; it reaches the address of the page when the fingers rest. */
function SearchField({
  field,
  value,
  onChange,
  children,
}: {
  field: React.RefObject<HTMLInputElement | null>;
  value: string;
  onChange: (value: string) => void;
  /** other ways to search, at the field's end */
  children: React.ReactNode;
}) {
  const [typed, setTyped] = useState(value);
  const sent = useRef(value);
  useEffect(() => {
    // Changed from elsewhere, such as "show all".
    if (value !== sent.current) setTyped(value);
    sent.current = value;
  }, [value]);
  useEffect(() => {
    if (typed === sent.current) return;
    const timer = setTimeout(
      () => {
        sent.current = typed;
        onChange(typed);
      },
      typed.includes("holds:") ? BYTES : TYPING,
    );
    return () => clearTimeout(timer);
  }, [typed, onChange]);
  return (
    <div className="flex w-full grow items-center min-[1400px]:w-40 min-[1400px]:max-w-xl rounded-lg border border-line bg-raised pr-1 focus-within:outline-2 focus-within:outline-heather">
      <input
        ref={field}
        type="search"
        aria-label="Search by name or path"
        title="Search by name or path ( / )"
        placeholder="boat sail"
        className="min-w-0 grow bg-transparent py-1.5 pl-3 outline-none!"
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
      />
      {children}
    </div>
  );
}
