import { Link } from "react-router";
import type { Edit } from "../../api/client";
import { useEdits } from "../../api/queries";
import { faceOf } from "../../assets/registry";
import { Empty } from "../../components/controls";
import { Findings } from "../../components/Findings";
import { StateMark } from "../../components/StateMark";
import { useFirst } from "../../components/useFirst";
import { many } from "../../lib/format";

/** so many are shown at first, the worst of them: a pack of textures has thousands */
const MOST = 60;
const ORDER = { attention: 0, ready: 1, same: 2, waiting: 3 } as const;

/** The whole mod before the game sees it: every edit with its findings, worst first. */
export function CheckStage({ project }: { project: string }) {
  const { data: edits } = useEdits(project);
  const came = (edits ?? [])
    .filter((edit) => edit.position > 0)
    .sort((a, b) => ORDER[a.state] - ORDER[b.state]);
  const [shown, rest] = useFirst(came, MOST);
  if (!edits) return null;
  if (came.length === 0)
    return (
      <Empty title="Nothing to check yet">
        As soon as a file comes back from your editor it is compared with its original here, property by
        property.
      </Empty>
    );
  const open = came.filter((edit) => edit.state === "attention").length;
  const waiting = edits.length - came.length;
  return (
    <div className="h-full overflow-auto">
      <div className="mx-auto grid max-w-5xl gap-4 px-8 py-6">
        <div className="flex items-end gap-4">
          <h1 className="flex-1 text-[26px] font-bold">
            {open === 0
              ? came.some((edit) => edit.sheet?.findings.some((finding) => finding.meant))
                ? "Nothing is left to decide"
                : "The game would take all of it"
              : `${many(open, "edit")} would trip the game up or look wrong`}
          </h1>
          {waiting > 0 && <p className="text-quiet">{many(waiting, "more file")} not back yet</p>}
        </div>
        <ul className="grid gap-3">
          {shown.map((edit) => (
            <Row key={edit.address} project={project} edit={edit} />
          ))}
        </ul>
        {rest}
      </div>
    </div>
  );
}

function Row({ project, edit }: { project: string; edit: Edit }) {
  const face = faceOf(edit.kind);
  const pair = (which: "original" | "edit") => (
    <span className="ground size-28 overflow-hidden rounded-lg p-1">
      <face.Small project={project} edit={edit} which={which} />
    </span>
  );
  return (
    <li className="flex gap-5 rounded-xl bg-raised p-4">
      <Link
        to={`/p/${project}/edit?item=${encodeURIComponent(edit.address)}`}
        className="flex shrink-0 gap-1.5 self-start"
        aria-label={`Look at ${edit.name}`}
      >
        {pair("original")}
        {pair("edit")}
      </Link>
      <div className="grid min-w-0 flex-1 content-start gap-2">
        <div className="flex items-baseline gap-3">
          <h2 className="min-w-0 truncate font-bold">{edit.name}</h2>
          <StateMark edit={edit} />
        </div>
        {edit.state === "same" ? (
          <p className="text-quiet">Byte for byte the original: there is nothing to build.</p>
        ) : (
          <Findings project={project} edit={edit} />
        )}
      </div>
    </li>
  );
}
