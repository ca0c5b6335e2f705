/** A layout as one file for others: with its author, its licence and its test. */
import { Gift } from "lucide-react";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import { client, take } from "../../api/client";
import { useAct } from "../../api/queries";
import { Button } from "../../components/controls";
import { Field, RoomDialog } from "../../components/Dialog";
import { many } from "../../lib/format";
import type { Known } from "./words";

export function GiveAway({ project, known }: { project: string; known: Known }) {
  const [version, setVersion] = useState("1");
  const [author, setAuthor] = useState("");
  const [licence, setLicence] = useState("CC0-1.0");
  const [about, setAbout] = useState("");
  const give = useAct(
    () =>
      take(
        client.POST("/api/projects/{project_id}/layouts/{layout}/give", {
          params: { path: { project_id: project, layout: known.layout } },
          body: { version, author, licence, about },
        }),
      ),
    ({ file, text, tested }) => {
      const link = document.createElement("a");
      link.href = URL.createObjectURL(new Blob([text], { type: "application/yaml" }));
      link.download = file;
      link.click();
      URL.revokeObjectURL(link.href);
      toast.success(`${file} is among your downloads`, {
        description: tested
          ? `Tested on ${many(tested, "file")} of this game; only hashes of them are in it.`
          : "No file of this game is its test.",
      });
    },
  );
  return (
    <RoomDialog
      title={`Give away: ${known.title}`}
      words="One file with the description, the names it needs, and hashes of the game's files that it is proved on. Nothing of the game itself is in it. Others have it tried on their own files before they use it."
      button={
        <Button>
          <Gift aria-hidden className="size-4" /> Give it away…
        </Button>
      }
    >
      <div className="grid grid-cols-2 gap-3">
        <Field label="Version" value={version} onChange={setVersion} />
        <Field label="Licence" value={licence} onChange={setLicence} />
      </div>
      <Field label="Who made it" value={author} placeholder="a name, or nothing" onChange={setAuthor} />
      <Field label="What to know of it" value={about} onChange={setAbout} />
      <div className="flex items-center justify-end gap-2">
        <Dialog.Close asChild>
          <Button>Close</Button>
        </Dialog.Close>
        <Button look="act" disabled={give.isPending} onClick={() => give.mutate(undefined)}>
          {give.isPending ? "Testing it …" : "Test it and save the file"}
        </Button>
      </div>
    </RoomDialog>
  );
}
