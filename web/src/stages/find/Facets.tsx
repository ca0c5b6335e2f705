import type { Schemas } from "../../api/client";
import { count } from "../../lib/format";
import { KINDS } from "../../lib/kinds";
import { type Search, useFacets } from "./useCatalogue";

const MOST = 12;

/** What the catalogue can be narrowed by. */
export function Facets({
  project,
  search,
  onChange,
}: {
  project: string;
  search: Search;
  onChange: (change: Partial<Search>) => void;
}) {
  const { data } = useFacets(project, search);
  const toggle = (name: "kind" | "format" | "sides", value: string) => {
    const now = search[name];
    onChange({ [name]: now.includes(value) ? now.filter((one) => one !== value) : [...now, value] });
  };
  return (
    <aside className="w-52 shrink-0 overflow-auto pt-1 pr-2 pb-4 pl-5" aria-label="Narrow the catalogue">
      <label className="mb-3 flex items-center gap-2">
        <input
          type="checkbox"
          className="size-4 accent-heather"
          checked={search.in_work}
          onChange={() => onChange({ in_work: !search.in_work })}
        />
        only what is in work
      </label>
      <Group
        title="Kind"
        values={data?.kind}
        chosen={search.kind}
        words={(value) => KINDS[value]?.name ?? value}
        onToggle={(value) => toggle("kind", value)}
      />
      <Group
        title="Pixel format"
        values={data?.format}
        chosen={search.format}
        words={(value) => value.toUpperCase()}
        onToggle={(value) => toggle("format", value)}
      />
      <Group
        title="Sides"
        values={data?.sides}
        chosen={search.sides}
        words={(value) => value.replace("x", "×")}
        onToggle={(value) => toggle("sides", value)}
      />
      <Folders values={data?.folder} chosen={search.folder} onChoose={(folder) => onChange({ folder })} />
    </aside>
  );
}

type Values = Schemas["FacetValue"][] | undefined;

function Group({
  title,
  values,
  chosen,
  words,
  onToggle,
}: {
  title: string;
  values: Values;
  chosen: string[];
  words: (value: string) => string;
  onToggle: (value: string) => void;
}) {
  if (!values?.length) return null;
  return (
    <fieldset className="mb-4">
      <legend className="mb-1 font-bold">{title}</legend>
      {values.slice(0, MOST).map(({ value, count: number }) => (
        <label key={value} className="flex items-center gap-2 rounded px-1 py-0.5 hover:bg-sunk">
          <input
            type="checkbox"
            className="size-4 accent-heather"
            checked={chosen.includes(value)}
            onChange={() => onToggle(value)}
          />
          <span className="min-w-0 flex-1 truncate">{words(value)}</span>
          <span className="text-[13.5px] text-quiet">{count(number)}</span>
        </label>
      ))}
    </fieldset>
  );
}

/** The folders of the members' paths, each with what lies below it. */
function Folders({
  values,
  chosen,
  onChoose,
}: {
  values: Values;
  chosen: string | null;
  onChoose: (folder: string | null) => void;
}) {
  if (!values?.length) return null;
  const totals = new Map<string, number>();
  for (const { value, count: number } of values) {
    const steps = value === "" ? [] : value.split("/");
    for (let depth = 1; depth <= steps.length; depth += 1) {
      const path = steps.slice(0, depth).join("/");
      totals.set(path, (totals.get(path) ?? 0) + number);
    }
  }
  const paths = [...totals.keys()].sort();
  return (
    <fieldset>
      <legend className="mb-1 font-bold">Folder</legend>
      {paths.slice(0, 200).map((path) => {
        const depth = path.split("/").length - 1;
        const on = chosen === path;
        return (
          <button
            key={path}
            type="button"
            aria-pressed={on}
            onClick={() => onChoose(on ? null : path)}
            style={{ paddingLeft: 4 + depth * 14 }}
            className={`flex w-full items-center gap-2 rounded py-0.5 pr-1 text-left hover:bg-sunk ${on ? "bg-heather-soft font-bold" : ""}`}
          >
            <span className="min-w-0 flex-1 truncate">{path.slice(path.lastIndexOf("/") + 1)}</span>
            <span className="text-[13.5px] text-quiet">{count(totals.get(path) ?? 0)}</span>
          </button>
        );
      })}
    </fieldset>
  );
}
