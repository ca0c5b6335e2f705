/** What maps are for, in words. */
import type { Schemas } from "../../api/client";

export type MapView = Schemas["MapView"];

/** The role of a map, or of each channel of a packed one. */
export function roleWords(map: MapView): string {
  const channels = Object.entries(map.channels);
  if (channels.length)
    return channels.map(([channel, role]) => `${channel.toUpperCase()} ${role}`).join(", ");
  return map.role ?? "colour";
}

/** What inverting a channel makes of it. */
export function invertWords(role: string | undefined): string {
  if (role === "roughness") return "make it smoothness";
  if (role === "smoothness") return "make it roughness";
  return "invert it";
}

/** How the file is called whose bumps the roughness of a map follows, such as r:roughness; none of another map. */
export function roughPart(map: MapView | undefined): string | null {
  const channels = map?.role ? { r: map.role } : (map?.channels ?? {});
  const found = Object.entries(channels).find(([, role]) => role === "roughness" || role === "smoothness");
  return found ? found.join(":") : null;
}
