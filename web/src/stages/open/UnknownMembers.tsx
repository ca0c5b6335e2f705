/** What lies in described archives and is of no kind: each sort can be described, or guessed at. */
import { useQuery } from "@tanstack/react-query";
import { Shapes } from "lucide-react";
import { Link } from "react-router";
import { client, take } from "../../api/client";
import { many, rounded } from "../../lib/format";
import { workshopPath } from "../workshop/drafts";

const LINK = "underline underline-offset-4 hover:text-ink text-quiet";

export function UnknownMembers({ project }: { project: string }) {
  const { data: sorts = [] } = useQuery({
    queryKey: ["unknown-members", project],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/workshop/unknown", {
          params: { path: { project_id: project } },
        }),
      ),
  });
  if (sorts.length === 0) return null;
  const all = sorts.reduce((sum, sort) => sum + sort.count, 0);
  return (
    <section aria-label="Members of no kind">
      <h2 className="text-[18px] font-bold">In the archives, but of no kind</h2>
      <p className="mt-1 mb-3 max-w-2xl text-quiet">
        What {many(all, "member")} are, no layout says: textures with a header of the game's own, perhaps.
        Describe one of a sort, and all of them are pictures.
      </p>
      <ul className="grid grid-cols-[minmax(0,1fr)] gap-2">
        {sorts.map((sort) => (
          <li
            key={sort.ending}
            className="flex flex-wrap items-center gap-x-4 gap-y-1 rounded-xl bg-raised px-4 py-3"
            aria-label={sort.ending || "without an ending"}
          >
            <Shapes aria-hidden className="size-6 shrink-0 text-heather" strokeWidth={1.6} />
            <span className="min-w-52 flex-1">
              <b>{sort.ending ? `*${sort.ending}` : "no ending"}</b>, {many(sort.count, "member")}
              <span className="block truncate text-quiet" title={sort.example}>
                such as {sort.example.split("//").at(-1)}, {rounded(sort.size)}
              </span>
            </span>
            <span className="flex flex-wrap gap-x-4">
              <Link className={LINK} to={workshopPath(project, sort.example, null)}>
                Describe it in the workshop
              </Link>
              <Link
                className={LINK}
                to={`/p/${project}/guess?item=${encodeURIComponent(sort.example)}&kind=texture`}
              >
                Look for a picture in it
              </Link>
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
