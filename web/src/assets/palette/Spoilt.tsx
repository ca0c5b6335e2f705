/** What else is drawn with a palette, before and after: re-mapped by a press. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, type Edit, type Schemas, take } from "../../api/client";
import { useAct } from "../../api/queries";
import { Button } from "../../components/controls";
import { many } from "../../lib/format";

type Item = Schemas["SpoiltView"];

export default function Spoilt({ project, edit }: { project: string; edit: Edit }) {
  const { data } = useQuery({
    queryKey: ["spoilt", project, edit.address, edit.revision, JSON.stringify(edit.sheet?.findings)],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/edits/spoilt", {
          params: { path: { project_id: project }, query: { address: edit.address } },
        }),
      ),
    enabled: edit.position > 0,
    placeholderData: (before) => before,
  });
  const act = useAct((addresses: string[]) =>
    take(
      client.POST("/api/projects/{project_id}/edits/spoilt/remap", {
        params: { path: { project_id: project }, query: { address: edit.address } },
        body: { addresses },
      }),
    ),
  );
  const keep = useAct((addresses: string[]) =>
    take(
      client.POST("/api/projects/{project_id}/edits/spoilt/keep", {
        params: { path: { project_id: project }, query: { address: edit.address } },
        body: { addresses },
      }),
    ),
  );
  const waiting = act.isPending || keep.isPending;
  if (!edit.position || !data?.length) return null;
  const open = data.filter((one) => !one.edited);
  return (
    <section aria-label="What looks different with it" className="grid gap-3">
      <div className="flex flex-wrap items-center gap-3">
        <h2 className="min-w-0 flex-1 text-[17px] font-bold">
          {many(data.length, "other item")} drawn with it
        </h2>
        {open.length > 0 && (
          <Button look="act" disabled={waiting} onClick={() => act.mutate([])}>
            {open.length === 1 ? "Re-map it" : `Re-map all ${open.length}`}
          </Button>
        )}
      </div>
      {open.length > 0 && (
        <p className="text-[14px] text-quiet">
          Re-map draws an item in the nearest of the new colours. Keep gives its old colours entries that
          nothing is drawn with, where there are any.
        </p>
      )}
      <ul className="grid gap-2">
        {data.map((one) => (
          <Row
            key={one.address}
            project={project}
            edit={edit}
            item={one}
            waiting={waiting}
            onRemap={() => act.mutate([one.address])}
            onKeep={() => keep.mutate([one.address])}
          />
        ))}
      </ul>
    </section>
  );
}

function Row({
  project,
  edit,
  item,
  waiting,
  onRemap,
  onKeep,
}: {
  project: string;
  edit: Edit;
  item: Item;
  waiting: boolean;
  onRemap: () => void;
  onKeep: () => void;
}) {
  const url = (after: boolean) =>
    `/api/projects/${encodeURIComponent(project)}/edits/spoilt/picture?${new URLSearchParams({
      address: item.address,
      by: edit.address,
      after: String(after),
      revision: edit.revision,
    })}`;
  const name = item.name.split("/").pop();
  return (
    <li className="flex items-center gap-3 rounded-xl bg-raised p-2">
      {([false, true] as const).map((after) => (
        <img
          key={String(after)}
          alt={`${name} ${after ? "in the new colours" : "as it is"}`}
          loading="lazy"
          src={url(after)}
          className="ground pixelated size-20 shrink-0 rounded-lg object-contain"
        />
      ))}
      <div className="grid min-w-0 flex-1 gap-1">
        <b className="truncate">{name}</b>
        <span className="text-[13.5px] text-quiet">
          {(item.share * 100).toFixed(1)} % of it, {item.mean.toFixed(1)} off in the mean
        </span>
        {item.edited ? (
          <Link
            to={`/p/${project}/edit?item=${encodeURIComponent(item.address)}`}
            className="text-[14px] underline underline-offset-4"
          >
            edited: follows it
          </Link>
        ) : (
          <div className="flex flex-wrap gap-2">
            <Button disabled={waiting} onClick={onRemap}>
              Re-map
            </Button>
            <Button look="quiet" disabled={waiting} onClick={onKeep}>
              Keep
            </Button>
          </div>
        )}
      </div>
    </li>
  );
}
