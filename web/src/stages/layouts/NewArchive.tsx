/** A new archive from a folder's files, outside of the game. */
import { PackagePlus } from "lucide-react";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { client, take } from "../../api/client";
import { useAct, useJobs, useProject, useServer } from "../../api/queries";
import { Button, Copyable } from "../../components/controls";
import { Field, RoomDialog } from "../../components/Dialog";
import { isActive, many } from "../../lib/format";
import type { Known } from "./words";

type Made = { members: number; files: string[] };

export function NewArchive({ project, known }: { project: string; known: Known }) {
  const home = useServer().data?.user_folder ?? "";
  const mine =
    useProject(project).data?.archives.filter(
      (one) => one.layout === known.layout && one.proof?.exact === true,
    ) ?? [];
  const ending = mine[0]?.address.match(/\.[^./]+$/)?.[0] ?? "";
  const [folder, setFolder] = useState<string | null>(null);
  const [out, setOut] = useState<string | null>(null);
  const [like, setLike] = useState("");
  const [job, setJob] = useState<number | null>(null);
  const running = useJobs().data?.find((one) => one.id === job);
  const from = folder ?? `${home}/Brae/new`;
  const to = out ?? `${home}/Brae/new${ending}`;
  const make = useAct(
    () =>
      take(
        client.POST("/api/projects/{project_id}/layouts/{layout}/make", {
          params: { path: { project_id: project, layout: known.layout } },
          body: { folder: from, out: to, like: like || null },
        }),
      ),
    ({ id }) => setJob(id),
  );
  const made = running?.state === "done" ? (running.result as unknown as Made) : null;
  return (
    <RoomDialog
      title={`New archive: ${known.title}`}
      words="The files of a folder become its members, by their paths. It is written outside of the game; what is there already is not replaced."
      button={
        <Button>
          <PackagePlus aria-hidden className="size-4" /> New archive…
        </Button>
      }
      onOpen={() => setJob(null)}
    >
      <Field label="Files from the folder" value={from} onChange={setFolder} />
      <Field label="The new archive" value={to} onChange={setOut} />
      <label className="grid gap-1">
        <b>Header and packing</b>
        <select
          className="rounded-lg border border-line bg-paper px-2 py-1.5"
          value={like}
          onChange={(event) => setLike(event.target.value)}
        >
          <option value="">as the layout alone says</option>
          {mine.map(({ address }) => (
            <option key={address} value={address}>
              like {address}
            </option>
          ))}
        </select>
      </label>
      {running?.state === "failed" && (
        <p role="alert" className="rounded-lg bg-rust-soft p-3">
          {running.error?.message} {running.error?.remedy}
        </p>
      )}
      {made && (
        <div role="status" className="rounded-lg bg-sunk p-3">
          <p>Made, with {many(made.members, "member")}:</p>
          {made.files.map((path) => (
            <Copyable key={path} value={path} />
          ))}
        </div>
      )}
      <div className="flex items-center justify-end gap-2">
        <Dialog.Close asChild>
          <Button>Close</Button>
        </Dialog.Close>
        <Button
          look="act"
          disabled={make.isPending || (running !== undefined && isActive(running))}
          onClick={() => make.mutate(undefined)}
        >
          Make it
        </Button>
      </div>
    </RoomDialog>
  );
}
