/** A screen in two ways: its rectangles over the picture, and the picture beside the original's. */
import { useState } from "react";
import { type Edit, previewUrl } from "../../api/client";
import { Choice } from "../../components/controls";
import type { Spot } from "../face";
import { Compare as Pictures } from "../texture/Compare";
import { AreasEditor, useAreas } from "./Areas";

export default function Compare({ project, edit, spot }: { project: string; edit: Edit; spot: Spot | null }) {
  const [view, setView] = useState<"areas" | "picture">("areas");
  const { data } = useAreas(project, edit);
  if (!data) return <div className="ground h-full rounded-xl" />;
  return (
    <div className="flex h-full min-h-0 flex-col gap-2">
      <div>
        <Choice
          label="What is seen of the screen"
          value={view}
          onChange={setView}
          options={[
            ["areas", "Rectangles"],
            ["picture", "Picture"],
          ]}
        />
      </div>
      <div className="min-h-0 flex-1">
        {view === "areas" ? (
          <AreasEditor project={project} edit={edit} screen={data} />
        ) : (
          <Pictures
            size={{ width: data.width, height: data.height }}
            levels={1}
            hasEdit={edit.position > 0}
            canDiffer={edit.position > 0}
            url={(which, level, channels) =>
              previewUrl(project, edit.address, { which, level, channels, revision: edit.revision })
            }
            spot={spot}
          />
        )}
      </div>
    </div>
  );
}
