/** A model and its edit beside each other, in the textures of their materials, lit as in the game. */
import { useQuery } from "@tanstack/react-query";
import { client, type Edit, previewUrl, take } from "../../api/client";
import { useDresses } from "./useDresses";
import { Viewer } from "./Viewer";

export const useParts = (project: string, address: string, revision: string) =>
  useQuery({
    queryKey: ["parts", project, address, revision],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/mesh/parts", {
          params: { path: { project_id: project }, query: { address } },
        }),
      ),
    placeholderData: (before) => before,
  });

export default function Compare({ project, edit }: { project: string; edit: Edit }) {
  const { data } = useParts(project, edit.address, edit.revision);
  const original = useDresses(project, data?.original);
  const edited = useDresses(project, data?.edit);
  if (!data) return <div className="ground h-full rounded-xl" />;
  const url = (which: "original" | "edit") =>
    previewUrl(project, edit.address, { which, view: "model", revision: edit.revision });
  const models = [{ name: "original", url: url("original"), dresses: original }];
  if (edit.position) models.push({ name: "edit", url: url("edit"), dresses: edited });
  return <Viewer models={models} radius={data.radius} light={data} canBeTextured={data.coordinates} />;
}
