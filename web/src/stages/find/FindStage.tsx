import { LayoutGrid, List, X } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { useNavigate } from "react-router";
import type { Member } from "../../api/client";
import { useJobs, useProject, usePutInWork } from "../../api/queries";
import { useKinds } from "../../assets/kinds";
import { canEdit } from "../../assets/registry";
import { Button, Choice, Empty } from "../../components/controls";
import { count, isActive, many } from "../../lib/format";
import { BY_KEY } from "../../lib/keys";
import { Detail } from "./Detail";
import { Facets } from "./Facets";
import { Folders } from "./Folders";
import { LightTable, type TableView } from "./LightTable";
import { Marks } from "./Marks";
import { useCatalogue, useSearch } from "./useCatalogue";

/** The catalogue: everything as pictures at once, narrowed by facets and search. */
export function FindStage({ project }: { project: string }) {
  const [search, change] = useSearch();
  const catalogue = useCatalogue(project, search);
  const [view, setView] = useState<TableView>("pictures");
  const [tile, setTile] = useState(132);
  const [focused, setFocused] = useState(0);
  const [chosen, setChosen] = useState<Set<string>>(new Set());
  const known = useKinds().data;
  const field = useRef<HTMLInputElement>(null);
  const putInWork = usePutInWork(project);
  const opened = useProject(project).data?.opened ?? "";
  const { data: jobs = [] } = useJobs();
  const listing = jobs.some((job) => job.kind === "open" && isActive(job) && job.project_id === project);
  const navigate = useNavigate();
  const current = catalogue.at(focused);
  useHotkeys("/", () => field.current?.focus(), { ...BY_KEY, preventDefault: true });
  const conditions = JSON.stringify(search);
  // biome-ignore lint/correctness/useExhaustiveDependencies: another search begins at its first item
  useEffect(() => setFocused(0), [conditions]);

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
  const narrowed = search.q || search.where.length || search.folder !== null || search.in_work;

  return (
    <div className="flex h-full">
      <Facets project={project} search={search} onChange={change} />
      <section className="flex min-w-0 flex-1 flex-col" aria-label="Catalogue">
        <div className="flex flex-wrap items-center gap-2 px-4 pt-1 pb-3">
          <SearchField field={field} value={search.q} onChange={(q) => change({ q })} />
          <span className="text-quiet" role="status">
            {catalogue.ready ? many(catalogue.total, "item") : ""}
          </span>
          {narrowed ? (
            <button
              type="button"
              className="flex items-center gap-1 text-quiet hover:text-ink"
              onClick={() => change({ q: "", where: [], folder: null, in_work: false })}
            >
              <X aria-hidden className="size-4" /> show all
            </button>
          ) : null}
          <span className="flex-1" />
          {chosen.size > 1 && (
            <Button
              look="act"
              disabled={putInWork.isPending}
              onClick={() => putInWork.mutate([...chosen], { onSuccess: () => setChosen(new Set()) })}
            >
              Edit these {count(chosen.size)}
            </Button>
          )}
          {chosen.size > 0 && <Marks project={project} addresses={[...chosen]} />}
          <Folders project={project} search={search} total={catalogue.total} chosen={[...chosen]} />
          <label className="flex items-center gap-2 text-quiet">
            <span className="sr-only">Order by</span>
            <select
              title="Order by"
              className="w-32 rounded-lg border border-line bg-raised px-2 py-1.5 text-ink"
              value={search.order}
              onChange={(event) => change({ order: event.target.value })}
            >
              {(known?.orders ?? [{ id: search.order, words: search.order }]).map(({ id, words }) => (
                <option key={id} value={id}>
                  {words}
                </option>
              ))}
            </select>
          </label>
          {view === "pictures" && (
            <input
              type="range"
              aria-label="Size of the pictures"
              min={84}
              max={260}
              value={tile}
              className="w-16 accent-heather"
              onChange={(event) => setTile(Number(event.target.value))}
            />
          )}
          <Choice
            label="View"
            value={view}
            onChange={setView}
            options={[
              ["pictures", <LayoutGrid key="p" aria-label="Pictures" className="my-0.5 size-4" />],
              ["list", <List key="l" aria-label="List" className="my-0.5 size-4" />],
            ]}
          />
        </div>
        {catalogue.error ? (
          <Empty title="The catalogue cannot be shown">{catalogue.error.message}</Empty>
        ) : catalogue.ready && catalogue.total === 0 ? (
          <Empty title={listing && !narrowed ? "The game is being listed" : "Nothing fits"}>
            {listing && !narrowed
              ? "The first pictures come in a moment."
              : narrowed
                ? "No item fits all of these conditions. Take one of them away."
                : "This game has no items that Brae recognises yet. See Open for what was found."}
          </Empty>
        ) : (
          <LightTable
            project={project}
            view={view}
            tile={tile}
            catalogue={catalogue}
            focused={focused}
            onFocus={setFocused}
            chosen={chosen}
            onChoose={setChosen}
            onOpen={edit}
            opened={opened}
          />
        )}
      </section>
      {current && (
        <Detail
          project={project}
          member={current}
          opened={opened}
          onEdit={() => edit(current)}
          onFolder={(folder) => change({ folder, where: [], q: "" })}
          onSearch={(q) => change({ q, folder: "", where: [] })}
        />
      )}
    </div>
  );
}

const TYPING = 150;

/** The search as it is typed; it reaches the address of the page when the fingers rest. */
function SearchField({
  field,
  value,
  onChange,
}: {
  field: React.RefObject<HTMLInputElement | null>;
  value: string;
  onChange: (value: string) => void;
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
    const timer = setTimeout(() => {
      sent.current = typed;
      onChange(typed);
    }, TYPING);
    return () => clearTimeout(timer);
  }, [typed, onChange]);
  return (
    <input
      ref={field}
      type="search"
      aria-label="Search by name or path"
      title="Search by name or path ( / )"
      placeholder="boat sail, *.wav, stamp_0?"
      className="w-44 rounded-lg border border-line bg-raised px-3 py-1.5"
      value={typed}
      onChange={(event) => setTyped(event.target.value)}
    />
  );
}
