/** A sprite that plays, as soon as its frames are known. */
import { useQuery } from "@tanstack/react-query";
import { client, previewUrl, take } from "../../api/client";
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
  if (!data) return <div className={`ground rounded-xl ${tall ? "h-full min-h-60" : "h-56"}`} />;
  return (
    <Player
      frames={data}
      src={(which) => previewUrl(project, address, { which, view: "cells", revision })}
      sides={sides}
      tall={tall}
    />
  );
}
