/** The pictures of one texture, which stand one below the other on its sheet. */
import type { Schemas } from "../../api/client";

type Recipe = Pick<Schemas["Recipe"], "shape" | "surfaces" | "depth">;

/** The sides of a cube in the order in which files keep them (Direct3D, KTX). */
const SIDES = ["+X", "−X", "+Y", "−Y", "+Z", "−Z"];

/** What each picture of a texture is; nothing where there is only one. */
export function pictureNames({ shape, surfaces, depth }: Recipe): string[] {
  const numbered = (count: number, word: string) =>
    Array.from({ length: count }, (_, index) => `${word} ${index + 1}`);
  if (depth > 1) return numbered(depth, "slice");
  if (surfaces < 2) return [];
  if (shape !== "cube") return numbered(surfaces, "layer");
  return Array.from({ length: surfaces }, (_, index) => {
    const side = SIDES[index % 6] ?? "";
    return surfaces === 6 ? side : `cube ${Math.floor(index / 6) + 1}, ${side}`;
  });
}
