import type { Schemas } from "../../api/client";
import { type Kind, useKinds } from "../../assets/kinds";
import { factWords, titlesOf } from "../../assets/registry";
import { count } from "../../lib/format";
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
  const kinds = useKinds().data?.kinds;
  const toggle = (one: string) =>
    onChange({
      where: search.where.includes(one)
        ? search.where.filter((other) => other !== one)
        : [...search.where, one],
    });
  return (
    <aside className="min-h-0 flex-1 overflow-auto pt-1 pr-2 pb-4 pl-5" aria-label="Narrow the catalogue">
      <label className="mb-3 flex items-center gap-2">
        <input
          type="checkbox"
          className="size-4 accent-heather"
          checked={search.in_work}
          onChange={() => onChange({ in_work: !search.in_work })}
        />
        only my edits
      </label>
      {data?.facets.map(({ name, label, values }) => (
        <Group
          key={name}
          title={label}
          values={values}
          chosen={search.where
            .filter((one) => one.startsWith(`${name}:`))
            .map((one) => one.slice(name.length + 1))}
          words={(value) => (name === "kind" ? titlesOf(kinds, value) : facetWords(kinds, name, value))}
          onToggle={(value) => toggle(`${name}:${value}`)}
        />
      ))}
      <Folders values={data?.folders} chosen={search.folder} onChoose={(folder) => onChange({ folder })} />
    </aside>
  );
}

/** A value of a facet as its kind writes it. */
function facetWords(kinds: Kind[] | undefined, name: string, value: string): string {
  for (const kind of kinds ?? []) {
    const fact = kind.facts.find((one) => one.name === name);
    if (fact) return factWords({ ...fact, unit: name === "dimensions" ? "" : fact.unit }, value) ?? value;
  }
  return value;
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
