import { ChevronDown, ChevronRight, Contrast, Download, Upload } from "lucide-react";
import { useState } from "react";
import type { Edit } from "../../api/client";
import { type Channel, useMaps, useSetChannel } from "../../api/queries";
import { baseName } from "../../lib/format";
import { invertWords, roleWords } from "../../lib/maps";

const CHANNELS: Channel[] = ["r", "g", "b", "a"];

/** A packed map's channels one by one: take one out as a grey picture, bring another, invert it. */
export function Channels({ project, edit }: { project: string; edit: Edit }) {
  const [open, setOpen] = useState(false);
  const { data: maps } = useMaps(project, edit.address);
  const act = useSetChannel(project);
  const own = maps?.find((map) => map.address === edit.address);
  const normal = own?.role === "normal";
  const words = (channel: Channel) =>
    own?.channels[channel] ?? (normal && channel === "g" ? "green direction" : undefined);
  const name = baseName(edit.name).replace(/\.[^.]*$/, "");
  return (
    <section className="rounded-xl bg-raised p-3.5 text-[14px]" aria-label="Channels">
      <button
        type="button"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
        className="flex w-full items-center gap-2 text-left font-bold"
      >
        {open ? (
          <ChevronDown aria-hidden className="size-4" />
        ) : (
          <ChevronRight aria-hidden className="size-4" />
        )}
        Channels
        <span className="ml-auto truncate pl-3 font-normal text-quiet">{own ? roleWords(own) : ""}</span>
      </button>
      {open && (
        <ul className="mt-2 grid">
          {CHANNELS.map((channel) => (
            <li key={channel} className="flex items-center gap-2 py-0.5">
              <span className="w-6 font-bold">{channel.toUpperCase()}</span>
              <span className="min-w-0 flex-1 truncate text-quiet">{words(channel) ?? ""}</span>
              <a
                href={`/api/projects/${project}/channel?${new URLSearchParams({ address: edit.address, channel })}`}
                download={`${name}_${words(channel)?.replace(" ", "_") ?? channel}.png`}
                title={`Download ${channel.toUpperCase()} as a grey picture`}
                aria-label={`Download ${channel.toUpperCase()}`}
                className="rounded p-1 hover:bg-sunk"
              >
                <Download aria-hidden className="size-4" />
              </a>
              <label
                title={`Bring a picture for ${channel.toUpperCase()}: its red, or its grey`}
                className="cursor-pointer rounded p-1 focus-within:outline-2 hover:bg-sunk"
              >
                <Upload aria-hidden className="size-4" />
                <input
                  type="file"
                  className="sr-only"
                  aria-label={`A picture for ${channel.toUpperCase()}`}
                  accept="image/*,.dds,.ktx2,.tga,.hdr,.exr"
                  onChange={(event) => {
                    const file = event.target.files?.[0];
                    if (file) act.mutate({ address: edit.address, channel, file });
                    event.target.value = "";
                  }}
                />
              </label>
              <button
                type="button"
                title={`${channel.toUpperCase()}: ${invertWords(words(channel))}`}
                aria-label={`Invert ${channel.toUpperCase()}`}
                disabled={act.isPending}
                onClick={() => act.mutate({ address: edit.address, channel, file: null })}
                className="rounded p-1 hover:bg-sunk"
              >
                <Contrast aria-hidden className="size-4" />
              </button>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
