import type { Member } from "../../api/client";
import { useHalves, useJoin, useOpenAgain } from "../../api/queries";
import { Button } from "../../components/controls";
import { bytes, many } from "../../lib/format";

const MOST = 3;

/** Of a texture only the small levels are here: where the others may be, joined by one press. */
export function Halves({ project, address }: { project: string; address: Member["address"] }) {
  const { data } = useHalves(project, address);
  const join = useJoin(project);
  const again = useOpenAgain();
  if (!data?.levels) return null;
  return (
    <section className="grid gap-2 rounded-lg bg-raised p-3" aria-label="Its larger levels">
      <p>
        {data.assumed ? (
          <>
            <b>It may be the small end of a picture.</b> {many(data.levels, "larger level")} that fit lie
            elsewhere.
          </>
        ) : (
          <>
            <b>Only its small levels are here.</b> {many(data.levels, "larger level")} ({bytes(data.missing)})
            lie elsewhere.
          </>
        )}
      </p>
      {data.halves.length === 0 && (
        <p className="text-quiet">
          No item of the game has exactly that size, and in no larger one does a number of its header say
          where they are. They may be in an archive that is not open yet.
        </p>
      )}
      {data.halves.slice(0, MOST).map((half, number) => (
        <div key={`${half.pattern} ${half.at}`} className="grid gap-1">
          <p className="break-all">
            {half.pattern.includes("{level}") ? `${half.name} and the like` : half.name}{" "}
            <span className="whitespace-nowrap text-quiet">{Math.round(half.sure * 100)} % sure</span>
          </p>
          <p className="text-[13.5px] text-quiet">{half.why.join("; ")}.</p>
          <Button
            look={number === 0 ? "plain" : "quiet"}
            disabled={join.isPending || again.isPending}
            onClick={() =>
              join.mutate(
                { address, pattern: half.pattern, smallest_first: half.smallest_first, at: half.at },
                { onSuccess: () => again.mutate(project) },
              )
            }
          >
            Join them
          </Button>
        </div>
      ))}
    </section>
  );
}
