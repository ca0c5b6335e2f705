/** A texture's original and edit together. */
import { type Edit, previewUrl } from "../../api/client";
import type { Spot } from "../face";
import { Compare } from "./Compare";
import { detailsOf } from "./details";
import { pictureNames } from "./pictures";
import { pixelWords } from "./queries";

export default function Editing({ project, edit, spot }: { project: string; edit: Edit; spot: Spot | null }) {
  const details = detailsOf(edit);
  const hasEdit = edit.position > 0;
  return (
    <Compare
      size={{ width: details.width, height: details.height }}
      levels={Math.min(details.mips, hasEdit ? details.result_mips : details.mips)}
      hasEdit={hasEdit}
      canDiffer={details.comparable}
      url={(which, level, channels, exposure) =>
        previewUrl(project, edit.address, {
          which,
          level,
          channels,
          revision: edit.revision,
          exposure: exposure || undefined,
        })
      }
      light={details.precision === "float"}
      pictures={pictureNames(details.recipe)}
      spot={spot}
      values={(which, level, x, y) => pixelWords(project, edit.address, { which, level, x, y })}
    />
  );
}
