/** Two texts line by line: what is the same is quiet, what differs stands out. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, type Edit, take } from "../../api/client";
import { Choice } from "../../components/controls";
import { count } from "../../lib/format";

type View = "both" | "changes";

export default function Compare({ project, edit }: { project: string; edit: Edit }) {
  const [view, setView] = useState<View>("both");
  const { data } = useQuery({
    queryKey: ["rows", project, edit.address, edit.revision],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/text/rows", {
          params: { path: { project_id: project }, query: { address: edit.address } },
        }),
      ),
    placeholderData: (before) => before,
  });
  const changed = data?.rows.filter((row) => !row.same).length ?? 0;
  const rows = data?.rows.filter((row) => view === "both" || !row.same) ?? [];
  return (
    <div className="flex h-full min-h-0 flex-col gap-2">
      <div className="flex flex-wrap items-center gap-4">
        {edit.position > 0 && (
          <Choice
            label="Which lines"
            value={view}
            onChange={setView}
            options={[
              ["both", "Side by side"],
              ["changes", "Changed lines only"],
            ]}
          />
        )}
        <span className="text-quiet" role="status">
          {edit.position === 0 || !data
            ? ""
            : changed === 0
              ? "No line differs."
              : `${count(changed)} of ${count(data.rows.length)} lines differ.`}
        </span>
      </div>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling text must be reachable by keyboard */}
      <div className="min-h-0 flex-1 overflow-auto rounded-xl bg-raised" tabIndex={0}>
        <table className="w-full table-fixed text-[14px]">
          <thead className="sticky top-0 bg-raised text-left text-quiet">
            <tr>
              <th className="w-12 py-1 font-normal">
                <span className="sr-only">Line</span>
              </th>
              <th className="py-1 font-normal">original</th>
              {edit.position > 0 && <th className="py-1 font-normal">edit</th>}
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={`${row.before} ${row.after}`} className="align-top">
                <td className="pr-3 text-right text-quiet tabular-nums select-none">
                  {row.after ?? row.before}
                </td>
                <td
                  className={`pr-3 break-words whitespace-pre-wrap ${row.same ? "" : row.before === null ? "" : "bg-rust-soft"}`}
                >
                  {row.original}
                </td>
                {edit.position > 0 && (
                  <td
                    className={`pr-3 break-words whitespace-pre-wrap ${row.same ? "text-quiet" : row.after === null ? "" : "bg-moss-soft"}`}
                  >
                    {row.edit}
                  </td>
                )}
              </tr>
            ))}
          </tbody>
        </table>
        {data?.cut && <p className="p-3 text-quiet">Only the first lines are shown.</p>}
      </div>
    </div>
  );
}
