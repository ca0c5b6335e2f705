/** A texture's original and edit together. */
import { useState } from "react";
import { type Edit, previewUrl } from "../../api/client";
import { Choice } from "../../components/controls";
import type { Spot } from "../face";
import { Compare } from "./Compare";
import { detailsOf } from "./details";
import { Frames, useIsSheet } from "./Frames";
import { pictureNames } from "./pictures";
import { pixelWords } from "./queries";

type Props = { project: string; edit: Edit; spot: Spot | null };

export default function Editing({ project, edit, spot }: Props) {
  const [view, setView] = useState<"picture" | "frames">("picture");
  const isSheet = useIsSheet(project, edit);
  if (!isSheet) return <Picture project={project} edit={edit} spot={spot} />;
  return (
    <div className="flex h-full min-h-0 flex-col gap-2">
      <div>
        <Choice
          label="How it is looked at"
          value={view}
          onChange={setView}
          options={[
            ["picture", "Picture"],
            ["frames", "Frames"],
          ]}
        />
      </div>
      <div className="min-h-0 flex-1">
        {view === "frames" ? (
          <Frames project={project} edit={edit} />
        ) : (
          <Picture project={project} edit={edit} spot={spot} />
        )}
      </div>
    </div>
  );
}

function Picture({ project, edit, spot }: Props) {
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
