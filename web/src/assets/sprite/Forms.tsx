/** A sprite's sequences as moving files, to be taken along. */
import { Download } from "lucide-react";
import { type Edit, previewUrl, type Schemas } from "../../api/client";
import { Fold } from "../../components/Fold";
import { many } from "../../lib/format";
import { useFrames } from "./Playing";
import { Template } from "./Template";

export default function Forms({ project, edit }: { project: string; edit: Edit }) {
  const { data } = useFrames(project, edit.address, edit.revision);
  if (!data) return null;
  return (
    <>
      <Template project={project} edit={edit} />
      <Moving project={project} edit={edit} sequences={data.sequences} />
    </>
  );
}

function Moving({
  project,
  edit,
  sequences,
}: {
  project: string;
  edit: Edit;
  sequences: Schemas["FramesView"]["sequences"];
}) {
  const name = edit.name.split("/").pop();
  return (
    <Fold title="As moving files" words={many(sequences.length, "sequence")}>
      <ul className="mt-2 grid">
        {sequences.map((one, number) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: sequences can have the same name
          <li key={number} className="flex items-center gap-2 py-0.5">
            <span className="min-w-0 flex-1 truncate">
              {one.name}, {many(one.steps.length, "frame")}
            </span>
            <a
              href={previewUrl(project, edit.address, {
                which: edit.position ? "edit" : "original",
                view: "play",
                sequence: number,
                revision: edit.revision,
              })}
              download={`${name} ${one.name}.apng`}
              title={`Download ${one.name} as an APNG`}
              aria-label={`Download ${one.name}`}
              className="rounded p-1 hover:bg-sunk"
            >
              <Download aria-hidden className="size-4" />
            </a>
          </li>
        ))}
      </ul>
    </Fold>
  );
}
