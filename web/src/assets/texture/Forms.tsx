/** What only textures have beside the comparison. */
import type { Edit } from "../../api/client";
import type { Spot } from "../face";
import { Channels } from "./Channels";
import { Density } from "./Density";
import { detailsOf } from "./details";
import { Encoding } from "./Encoding";
import { Loss } from "./Loss";
import { Mips } from "./Mips";
import { Sizes } from "./Sizes";

export default function Forms({
  project,
  edit,
  onSpot,
}: {
  project: string;
  edit: Edit;
  onSpot: (place: Omit<Spot, "at">) => void;
}) {
  return (
    <>
      {edit.position > 0 && <Loss edit={edit} onWorst={onSpot} />}
      {edit.position > 0 && <Encoding project={project} edit={edit} />}
      <Sizes project={project} edit={edit} />
      <Channels project={project} edit={edit} />
      {detailsOf(edit).mips > 1 && <Mips project={project} edit={edit} />}
      <Density project={project} edit={edit} />
    </>
  );
}
