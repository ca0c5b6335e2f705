/** A swap list as a table: on which object, what, and what stands in for it; each change is a version. */
import { useQuery } from "@tanstack/react-query";
import { Plus, X } from "lucide-react";
import { useEffect, useId, useState } from "react";
import { client, type Edit, take } from "../../api/client";
import { useAct } from "../../api/queries";
import { Button } from "../../components/controls";

type Row = { object: string; old: string; new: string };
const MOST = 400;
const same = (one: Row[], other: Row[]) => JSON.stringify(one) === JSON.stringify(other);

export default function Compare({ project, edit }: { project: string; edit: Edit }) {
  const { data } = useQuery({
    queryKey: ["swaps", project, edit.address, edit.revision],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/swap/swaps", {
          params: { path: { project_id: project }, query: { address: edit.address } },
        }),
      ),
    placeholderData: (before) => before,
  });
  const set = useAct(({ rows, done }: { rows: Row[]; done: string }) =>
    take(
      client.PUT("/api/projects/{project_id}/swap/set", {
        params: { path: { project_id: project }, query: { address: edit.address, done, name: "swaps.json" } },
        body: new Blob([JSON.stringify(rows)]) as never,
        bodySerializer: (body: unknown) => body as Blob,
        headers: { "Content-Type": "application/octet-stream" },
      }),
    ),
  );
  const items = useNames(project, data?.item_pattern);
  const objects = useNames(project, data?.object_pattern);
  const id = useId();
  const kept: Row[] = (data?.swaps ?? []).map(({ object, old, new: now }) => ({ object, old, new: now }));
  const [rows, setRows] = useState<Row[] | null>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: another version begins with what that holds
  useEffect(() => setRows(null), [edit.revision]);
  if (!data) return <div className="ground h-full rounded-xl" />;
  const shown = rows ?? kept;
  const write = (number: number, part: Partial<Row>) =>
    setRows(shown.map((row, at) => (at === number ? { ...row, ...part } : row)));
  const whole = shown.every((row) => row.old.trim() && row.new.trim());
  const changed = rows !== null && !same(rows, kept);
  return (
    <div className="flex h-full min-h-0 flex-col gap-3">
      <div className="min-h-0 flex-1 overflow-auto rounded-xl bg-raised p-4">
        <table className="w-full text-left">
          <thead className="text-quiet">
            <tr>
              {data.objects && <th className="pb-2 font-normal">on</th>}
              <th className="pb-2 font-normal">in the place of</th>
              <th className="pb-2 font-normal">stands</th>
              <th className="w-10">
                <span className="sr-only">Take away</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {shown.map((row, number) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: a row is its place
              <tr key={number}>
                {data.objects && (
                  <Cell
                    label={`Object of swap ${number + 1}`}
                    value={row.object}
                    list={`${id}objects`}
                    placeholder="everywhere"
                    onChange={(object) => write(number, { object })}
                  />
                )}
                <Cell
                  label={`Replaced by swap ${number + 1}`}
                  value={row.old}
                  list={`${id}items`}
                  onChange={(old) => write(number, { old })}
                />
                <Cell
                  label={`In its place by swap ${number + 1}`}
                  value={row.new}
                  list={`${id}items`}
                  onChange={(now) => write(number, { new: now })}
                />
                <td>
                  <button
                    type="button"
                    aria-label={`Take swap ${number + 1} away`}
                    className="rounded-md p-1.5 text-quiet hover:bg-sunk hover:text-ink"
                    onClick={() => setRows(shown.filter((_, at) => at !== number))}
                  >
                    <X aria-hidden className="size-4" />
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {shown.length === 0 && <p className="py-2 text-quiet">Nothing stands in for anything yet.</p>}
        <Button className="mt-3" onClick={() => setRows([...shown, { object: "", old: "", new: "" }])}>
          <Plus aria-hidden className="size-4" /> Another swap
        </Button>
      </div>
      <div className="flex items-center gap-3">
        <Button
          look="act"
          disabled={!changed || !whole || set.isPending}
          onClick={() => set.mutate({ rows: shown, done: said(kept, shown) })}
        >
          Take this over
        </Button>
        <Button disabled={rows === null} onClick={() => setRows(null)}>
          As it was
        </Button>
        <span className="text-[14px] text-quiet">
          {changed && !whole ? "A swap says both names." : "Or save the table from your editor."}
        </span>
      </div>
      <Options id={`${id}items`} names={items} />
      <Options id={`${id}objects`} names={objects} />
    </div>
  );
}

/** What a version is called. */
function said(before: Row[], now: Row[]): string {
  const more = now.length - before.length;
  if (more > 0) return more === 1 ? "a swap more" : `${more} swaps more`;
  if (more < 0) return more === -1 ? "a swap fewer" : `${-more} swaps fewer`;
  return "swaps changed";
}

function Cell({
  label,
  value,
  list,
  placeholder,
  onChange,
}: {
  label: string;
  value: string;
  list: string;
  placeholder?: string;
  onChange: (value: string) => void;
}) {
  return (
    <td className="py-1 pr-3">
      <input
        aria-label={label}
        list={list}
        className="w-full min-w-0 rounded-lg border border-line bg-ground px-2 py-1.5"
        value={value}
        placeholder={placeholder}
        spellCheck={false}
        onChange={(event) => onChange(event.target.value)}
      />
    </td>
  );
}

function Options({ id, names }: { id: string; names: string[] }) {
  return (
    <datalist id={id}>
      {names.map((name) => (
        <option key={name} value={name} />
      ))}
    </datalist>
  );
}

/** What a list can say: the names of the items that fit a pattern with {name}. */
function useNames(project: string, pattern: string | undefined): string[] {
  const [before = "", behind = ""] = (pattern ?? "").split("{name}");
  return (
    useQuery({
      queryKey: ["members", project, "names of", pattern],
      enabled: pattern !== undefined,
      queryFn: async () => {
        const found = await take(
          client.GET("/api/projects/{project_id}/members", {
            params: { path: { project_id: project }, query: { q: before ? `"${before}"` : "", limit: MOST } },
          }),
        );
        return found.items
          .map((one) => one.name)
          .filter((name) => name.startsWith(before) && name.endsWith(behind))
          .map((name) => name.slice(before.length, name.length - behind.length));
      },
    }).data ?? []
  );
}
