/** Menu screens: the picture with its rectangles over it. */
import { AppWindow } from "lucide-react";
import { lazy } from "react";
import { previewUrl } from "../../api/client";
import { many } from "../../lib/format";
import type { Face } from "../face";
import texture from "../texture/face";
import { useAreas } from "./Areas";
import { wordsOf } from "./areas";

const Large: Face["Large"] = ({ project, member, opened }) => {
  const { data } = useAreas(project, { address: member.address, revision: opened as never });
  return (
    <div className="relative w-full">
      <img
        alt={`The screen ${member.name}`}
        className="pixelated w-full"
        src={previewUrl(project, member.address, { channels: "rgb", fit: 512, revision: opened })}
      />
      {data && (
        <svg viewBox={`0 0 ${data.width} ${data.height}`} className="absolute inset-0 size-full">
          <title>The rectangles of the screen</title>
          {data.original.map((area, number) => (
            <rect
              // biome-ignore lint/suspicious/noArrayIndexKey: rectangles are known by their numbers
              key={number}
              x={area.x}
              y={area.y}
              width={area.width}
              height={area.height}
              vectorEffect="non-scaling-stroke"
              strokeWidth={2}
              className="fill-transparent stroke-gorse hover:fill-gorse/25"
            >
              <title>{wordsOf(area, data)}</title>
            </rect>
          ))}
        </svg>
      )}
    </div>
  );
};

const face: Face = {
  ...texture,
  icon: AppWindow,
  summary: ({ facts }) =>
    typeof facts.areas === "number"
      ? `${facts.width}×${facts.height}, ${many(facts.areas, "rectangle")}`
      : "screen",
  Large,
  More: undefined,
  Compare: lazy(() => import("./Compare")),
  Guess: undefined,
  Forms: undefined,
};
export default face;
