/** What maps are for, in words. */
import type { Schemas } from "../../api/client";

type MapView = Schemas["MapView"];

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
