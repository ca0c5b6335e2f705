/** A sprite that plays, as soon as its frames are known. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, previewUrl, take } from "../../api/client";
import { useAct } from "../../api/queries";
import type { Area } from "../../components/frames/AreaOn";
import { Player, type Which } from "../../components/frames/Player";

export const useFrames = (project: string, address: string, revision: string) =>
  useQuery({
    queryKey: ["frames", project, address, revision],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/sprite/frames", {
          params: { path: { project_id: project }, query: { address } },
        }),
      ),
    // Who looks at a frame while the file is saved again goes on looking at that frame.
    placeholderData: (before, asked) => (asked?.queryKey[2] === address ? before : undefined),
  });

type Props = {
  project: string;
  address: string;
  revision: string;
  sides: readonly Which[];
  tall?: boolean;
};

export default function Playing({ project, address, revision, sides, tall }: Props) {
  const { data } = useFrames(project, address, revision);
  const [chosen, setChosen] = useState<Area | null>(null);
  const edited = sides.includes("edit");
  const { data: found } = useQuery({
    queryKey: ["followed", project, address, revision, chosen],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/sprite/followed", {
          params: { path: { project_id: project }, query: { address, ...(chosen as Area) } },
        }),
      ),
    enabled: edited && chosen !== null,
    placeholderData: (before) => before,
  });
  const settle = useAct((frames: number[]) =>
    take(
      client.PUT("/api/projects/{project_id}/sprite/settle", {
        params: {
          path: { project_id: project },
          query: { address, frames: frames.join(","), ...(chosen ?? {}) },
        },
      }),
    ),
  );
  if (!data) return <div className={`ground rounded-xl ${tall ? "h-full min-h-60" : "h-56"}`} />;
  return (
    <Player
      frames={data}
      src={(which) => previewUrl(project, address, { which, view: "cells", revision })}
      sides={sides}
      tall={tall}
      area={edited ? { chosen, found: found ?? [], onArea: setChosen } : undefined}
      onSettle={edited ? (frames) => settle.mutate(frames) : undefined}
    />
  );
}
