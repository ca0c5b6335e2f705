/** Original and edit of a sprite, playing in step. */
import type { Edit } from "../../api/client";
import Playing from "./Playing";

export default function Compare({ project, edit }: { project: string; edit: Edit }) {
  return (
    <Playing
      project={project}
      address={edit.address}
      revision={edit.revision}
      sides={edit.position ? ["original", "edit"] : ["original"]}
      tall
    />
  );
}
