/** A voice track beside its original: its words over the sound in which they are said. */
import { useQuery } from "@tanstack/react-query";
import { client, type Edit, take } from "../../api/client";
import { Editor } from "./Editor";

export default function Compare({ project, edit }: { project: string; edit: Edit }) {
  const { data } = useQuery({
    queryKey: ["track", project, edit.address, edit.revision],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/track/words", {
          params: { path: { project_id: project }, query: { address: edit.address } },
        }),
      ),
    placeholderData: (before) => before,
  });
  const name = data?.sound ?? "";
  const { data: sounds, isSuccess } = useQuery({
    queryKey: ["members", project, "sound of", name],
    enabled: name !== "",
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/members", {
          params: { path: { project_id: project }, query: { q: `kind:sound "${name}"`, limit: 24 } },
        }),
      ),
  });
  if (!data) return <div className="ground h-full rounded-xl" />;
  const sound = sounds?.items.find((one) => one.name.toLowerCase() === name.toLowerCase());
  return (
    <Editor
      key={sound?.address}
      project={project}
      edit={edit}
      of="track"
      view={data}
      sound={sound}
      missing={name === "" || (isSuccess && !sound)}
    />
  );
}
