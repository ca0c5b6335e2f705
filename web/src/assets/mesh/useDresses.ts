import { useQuery } from "@tanstack/react-query";
import { client, type Edit, type Member, previewUrl, type Schemas, take } from "../../api/client";
import { useEdits } from "../../api/queries";
import { itemOf } from "../material/paths";
import type { Channel, Dress } from "./scene";

type Part = Omit<Schemas["MeshPart"], "colour"> & { colour: number[] };
/** Parts that are dressed; a model of more is drawn in colours. */
const MOST = 32;

const numbers = (text: string | null | undefined, count: number): number[] | null => {
  const found = (text ?? "")
    .split(/[\s,]+/)
    .filter(Boolean)
    .map(Number);
  return found.length >= count && found.every(Number.isFinite) ? found.slice(0, count) : null;
};

/** What the parts of a model are dressed in: the textures of their materials, as they are edited now. */
export function useDresses(project: string, parts: Part[] | undefined): Dress[] | undefined {
  const { data: edits } = useEdits(project);
  const revisions = edits?.map((one) => `${one.address} ${one.revision}`).join(" ") ?? "";
  return useQuery({
    queryKey: ["dresses", project, JSON.stringify(parts), revisions],
    enabled: parts !== undefined && edits !== undefined,
    queryFn: () =>
      Promise.all((parts ?? []).map((part, place) => dress(project, part, place, edits ?? [], place < MOST))),
    placeholderData: (before) => before,
  }).data;
}

async function dress(
  project: string,
  part: Part,
  place: number,
  edits: Edit[],
  looked: boolean,
): Promise<Dress> {
  const plain = {
    name: part.material || `part ${place}`,
    colour: part.colour,
    texture: null,
    normal: null,
    gloss: null,
    occlusion: null,
    emission: null,
    floor: null,
    highlight: null,
    twoSided: true,
    opacity: 1,
    blend: false,
  };
  if (!looked) return plain;
  const named = async (kind: string, name: string) => {
    const found = await take(
      client.GET("/api/projects/{project_id}/members", {
        params: { path: { project_id: project }, query: { q: `kind:${kind} "${name}"`, limit: 24 } },
      }),
    );
    return found.items.find((one) => one.name.toLowerCase() === name.toLowerCase());
  };
  const urlOf = (texture: Member) => {
    const edit = edits.find((one) => one.address === texture.address);
    return previewUrl(project, texture.address, {
      which: edit?.position ? "edit" : "original",
      revision: edit?.revision ?? "0",
    });
  };
  const picture = async (name: string) => {
    const texture = await named("texture", name);
    return texture ? urlOf(texture) : null;
  };
  if (part.texture_item) return { ...plain, texture: await picture(part.texture_item) };
  const material = part.material_item ? await named("material", part.material_item) : undefined;
  if (!material) return plain;
  const {
    edit: values,
    under,
    ending,
  } = await take(
    client.GET("/api/projects/{project_id}/material/values", {
      params: { path: { project_id: project }, query: { address: material.address } },
    }),
  );
  const said = (sort: string, role: string) =>
    values.find((one) => one.sort === sort && one.role === role)?.value ?? null;
  const path = said("texture", "colour");
  const [bumps, glow] = [said("texture", "normal"), said("texture", "emission")];
  const item = (name: string) => itemOf({ under, ending }, name);
  // A picture for one thing, or a packed one whose channels are told by its name or by the game's profile.
  const channel = async (role: string, opposite = ""): Promise<Channel | null> => {
    for (const from of [role, opposite, "packed"].filter(Boolean)) {
      const name = said("texture", from);
      const texture = name ? await named("texture", item(name)) : undefined;
      if (!texture) continue;
      if (from !== "packed") return { texture: urlOf(texture), channel: 0, turned: from === opposite };
      const found = [...String(texture.facts.map ?? "").matchAll(/([rgba])=(\w+)/g)].find(
        ([, , held]) => held === role || held === opposite,
      );
      if (found)
        return {
          texture: urlOf(texture),
          channel: "rgba".indexOf(found[1] ?? "r"),
          turned: found[2] === opposite,
        };
    }
    return null;
  };
  return {
    ...plain,
    texture: path ? await picture(item(path)) : null,
    normal: bumps ? await picture(item(bumps)) : null,
    gloss: (await channel("specular")) ?? (await channel("smoothness", "roughness")),
    occlusion: await channel("occlusion"),
    emission: glow ? await picture(item(glow)) : null,
    floor: numbers(said("colour", "ambient"), 3),
    highlight: numbers(said("number", "highlight"), 1)?.[0] ?? null,
    opacity: Math.min(1, Math.max(0, numbers(said("number", "opacity"), 1)?.[0] ?? 1)),
    blend: /^(yes|true|on|1)$/i.test(said("switch", "blend") ?? ""),
    twoSided: !/^(no|false|off|0)$/i.test(said("switch", "two-sided") ?? ""),
  };
}
