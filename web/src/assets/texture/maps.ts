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

/** The channel of a map that says how rough its surface is, and which way round. */
export function roughChannel(map: MapView | undefined) {
  if (map?.role === "roughness" || map?.role === "smoothness")
    return { channel: "r" as const, holds: map.role };
  for (const [channel, role] of Object.entries(map?.channels ?? {}))
    if (role === "roughness" || role === "smoothness")
      return { channel: channel as "r" | "g" | "b" | "a", holds: role };
  return null;
}
