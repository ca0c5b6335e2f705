/** Another sprite as the template: its frames laid over this one's, anchor on anchor. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { client, type Edit, take } from "../../api/client";
import { useAct } from "../../api/queries";
import { Button } from "../../components/controls";
import { Fold } from "../../components/Fold";
import { many } from "../../lib/format";

/** So many sprites are offered by name. */
const MOST = 500;

export function Template({ project, edit }: { project: string; edit: Edit }) {
  const [open, setOpen] = useState(false);
  const { data } = useQuery({
    queryKey: ["sprites", project],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/members", {
          params: {
            path: { project_id: project },
            query: { where: ["kind:sprite"], limit: MOST, order: "name" },
          },
        }),
      ),
    enabled: open,
  });
  const [template, setTemplate] = useState("");
  const [by, setBy] = useState<"number" | "name">("number");
  const act = useAct(async () => {
    const said = await take(
      client.POST("/api/projects/{project_id}/edits/template", {
        params: { path: { project_id: project }, query: { address: edit.address, template, by } },
      }),
    );
    const lines = [
      said.missing.length > 0 && `It has none for ${listed(said.missing)}: these stay as they are.`,
      said.cut.length > 0 && `Cut off, as they do not fit: ${listed(said.cut)}.`,
    ].filter(Boolean);
    toast.success(`${many(said.frames, "frame")} taken`, {
      description: lines.join(" ") || undefined,
      duration: lines.length ? 20_000 : 5_000,
    });
  });
  const others = (data?.items ?? []).filter((one) => one.address !== edit.address);
  return (
    <Fold title="Frames of another sprite" words="as a template" onOpen={setOpen}>
      <form
        className="mt-2 grid gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          if (template) act.mutate(undefined);
        }}
      >
        <select
          aria-label="The sprite whose frames are taken"
          value={template}
          onChange={({ target }) => setTemplate(target.value)}
          className="rounded-lg bg-sunk px-2 py-1.5"
        >
          <option value="">{others.length ? "choose a sprite" : "there is no other sprite"}</option>
          {others.map((one) => (
            <option key={one.address} value={one.address}>
              {one.name}
            </option>
          ))}
        </select>
        <div className="flex flex-wrap items-center gap-2">
          <select
            aria-label="Which frame goes where"
            value={by}
            onChange={({ target }) => setBy(target.value === "name" ? "name" : "number")}
            className="rounded-lg bg-sunk px-2 py-1.5"
          >
            <option value="number">by their numbers</option>
            <option value="name">by the names of sequences</option>
          </select>
          <Button type="submit" disabled={!template || act.isPending}>
            Lay them over
          </Button>
        </div>
      </form>
    </Fold>
  );
}

const listed = (numbers: number[]) =>
  `${numbers.slice(0, 8).join(", ")}${numbers.length > 8 ? ` and ${numbers.length - 8} more` : ""}`;
