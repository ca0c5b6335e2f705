import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, type Edit, type Schemas, take } from "../../api/client";
import { showProblem, useCopies } from "../../api/queries";
import { useKind } from "../../assets/kinds";
import { Button } from "../../components/controls";
import { count, many } from "../../lib/format";

const MOST = 5;

/** Where what is edited is stored again, and the same edit for those with one press. */
export function Copies({ project, edit }: { project: string; edit: Edit }) {
  const { data } = useCopies(project);
  const give = useGive(project);
  // Only pictures are stored in other sizes.
  const pictured = useKind(edit.kind)?.pictured ?? false;
  // A line stands here from the start: what lies below it is not to move away from under the pointer.
  if (!data) return <Line>Looking whether it is stored again …</Line>;
  const copies = data.of[edit.address] ?? [];
  const wanting = copies.filter((copy) => !copy.same);
  const compare = pictured && !data.compared ? <Compare project={project} /> : null;
  if (copies.length === 0) return compare ?? <Line>Stored nowhere else.</Line>;
  return (
    <section className="grid gap-2 rounded-xl bg-raised p-3.5" aria-label="Stored again">
      <h2 className="font-bold">Stored again in {many(copies.length, "place")}</h2>
      {copies.slice(0, MOST).map((copy) => (
        <Link
          key={copy.address}
          to={
            copy.edited
              ? `?${new URLSearchParams({ item: copy.address })}`
              : `/p/${project}/find?${new URLSearchParams({ q: `"${nameOf(copy.address)}"` })}`
          }
          className="break-all underline underline-offset-4"
          title={copy.address}
        >
          {copy.address}
          <span className="ml-2 inline-block text-[13.5px] text-quiet no-underline">{about(copy)}</span>
        </Link>
      ))}
      {copies.length > MOST && <span className="text-quiet">and {count(copies.length - MOST)} more</span>}
      {wanting.length > 0 && edit.position > 0 && (
        <Button
          className="justify-self-start"
          disabled={give.isPending}
          onClick={() => give.mutate({ address: edit.address, copies: wanting.map((copy) => copy.address) })}
        >
          Give {wanting.length === 1 ? "it" : `all ${count(wanting.length)}`} this edit
        </Button>
      )}
      {wanting.length > 0 && edit.position === 0 && (
        <p className="text-[14.5px] text-quiet">
          The game may show one of them instead. Once your file is back, they can get the same edit.
        </p>
      )}
      {compare}
    </section>
  );
}

const Line = ({ children }: { children: string }) => <p className="text-[14.5px] text-quiet">{children}</p>;

/** Other sizes and formats are known only when all pictures have been looked at, which takes a while. */
function Compare({ project }: { project: string }) {
  const compare = useMutation({
    mutationFn: () =>
      take(
        client.POST("/api/projects/{project_id}/edits/copies/compare", {
          params: { path: { project_id: project } },
        }),
      ),
    onError: showProblem,
  });
  return (
    <button
      type="button"
      className="self-start text-left text-[14.5px] text-quiet underline underline-offset-4"
      disabled={compare.isPending || compare.isSuccess}
      onClick={() => compare.mutate()}
    >
      {compare.isSuccess ? "Looking for it in other sizes …" : "Is it stored again, in another size?"}
    </button>
  );
}

export function useGive(project: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["GiveTo"]) =>
      take(
        client.POST("/api/projects/{project_id}/edits/copies", {
          params: { path: { project_id: project } },
          body,
        }),
      ),
    onSettled: () => queries.invalidateQueries({ queryKey: ["copies", project] }),
    onError: showProblem,
  });
}

function about(copy: Schemas["Copy"]): string {
  const what = copy.exact ? "the same bytes" : "the same picture in other bytes";
  return copy.same ? `${what}, with this edit` : copy.edited ? `${what}, edited otherwise` : what;
}

const nameOf = (address: string) => address.split("//").pop() ?? address;
