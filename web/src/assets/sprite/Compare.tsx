/** Original and edit of a sprite, playing in step. */
import type { Edit } from "../../api/client";
import { Player } from "./Player";

export default function Compare({ project, edit }: { project: string; edit: Edit }) {
  return (
    <Player
      project={project}
      address={edit.address}
      revision={edit.revision}
      sides={edit.position ? ["original", "edit"] : ["original"]}
      tall
    />
  );
}
