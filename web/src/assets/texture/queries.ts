/** What only textures are asked, and what is only done to them. */
import { useQuery } from "@tanstack/react-query";
import { client, take } from "../../api/client";
import { useAct } from "../../api/queries";

export type Channel = "r" | "g" | "b" | "a";

const item = (project: string, address: string) => ({
  params: { path: { project_id: project }, query: { address } },
});

/** The exact values at a place, in words. */
export async function pixelWords(
  project: string,
  address: string,
  place: { which: "original" | "edit"; level: number; x: number; y: number },
): Promise<string> {
  const found = await take(
    client.GET("/api/projects/{project_id}/texture/pixel", {
      params: { path: { project_id: project }, query: { address, ...place } },
    }),
  );
  const values = found.values.map((value) =>
    value === null ? "no number" : Number.isInteger(value) ? String(value) : value.toPrecision(4),
  );
  return `${found.x}, ${found.y}: R ${values[0]} G ${values[1]} B ${values[2]} A ${values[3]}`;
}

/** The textures of one surface. */
export const useMaps = (project: string, address: string) =>
  useQuery({
    queryKey: ["maps", project, address],
    queryFn: () => take(client.GET("/api/projects/{project_id}/texture/maps", item(project, address))),
  });

/** How finely a texture covers so many units; nothing while a number is none. */
export function useDensity(project: string, address: string, world: number, wanted: number) {
  const said = world > 0 && wanted > 0;
  return useQuery({
    queryKey: ["texels", project, address, world, wanted],
    enabled: said,
    placeholderData: (before) => (said ? before : undefined),
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/texture/texels", {
          params: { path: { project_id: project }, query: { address, world, wanted } },
        }),
      ),
  });
}

/** Another picture in one channel; without a file the channel's own, inverted. */
export const useSetChannel = (project: string) =>
  useAct(async ({ address, channel, file }: { address: string; channel: Channel; file: File | null }) =>
    take(
      client.PUT("/api/projects/{project_id}/texture/channel", {
        params: {
          path: { project_id: project },
          query: { address, channel, invert: file === null },
          // A header holds plain letters only.
          header: { "X-File-Name": (file?.name ?? "").replace(/[^\x20-\x7e]/g, "_") },
        },
        body: (file ?? new Blob([])) as never,
        bodySerializer: (body: unknown) => body as Blob,
        headers: { "Content-Type": "application/octet-stream" },
      }),
    ),
  );
