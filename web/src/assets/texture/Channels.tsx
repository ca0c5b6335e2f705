import { Contrast, Download } from "lucide-react";
import { type Edit, previewUrl } from "../../api/client";
import { BringPicture, Fold } from "../../components/Fold";
import { baseName } from "../../lib/format";
import { invertWords, roleWords } from "./maps";
import { type Channel, useMaps, useSetChannel } from "./queries";

const CHANNELS: Channel[] = ["r", "g", "b", "a"];

/** A packed map's channels one by one: take one out as a grey picture, bring another, invert it. */
export function Channels({ project, edit }: { project: string; edit: Edit }) {
  const { data: maps } = useMaps(project, edit.address);
  const act = useSetChannel(project);
  const own = maps?.find((map) => map.address === edit.address);
  const normal = own?.role === "normal";
  const words = (channel: Channel) =>
    own?.channels[channel] ?? (normal && channel === "g" ? "green direction" : undefined);
  const name = baseName(edit.name).replace(/\.[^.]*$/, "");
  return (
    <Fold title="Channels" words={own ? roleWords(own) : ""}>
      <ul className="mt-2 grid">
        {CHANNELS.map((channel) => (
          <li key={channel} className="flex items-center gap-2 py-0.5">
            <span className="w-6 font-bold">{channel.toUpperCase()}</span>
            <span className="min-w-0 flex-1 truncate text-quiet">{words(channel) ?? ""}</span>
            <a
              href={previewUrl(project, edit.address, { channels: channel, exact: true, which: "painted" })}
              download={`${name}_${words(channel)?.replace(" ", "_") ?? channel}.png`}
              title={`Download ${channel.toUpperCase()} as a grey picture`}
              aria-label={`Download ${channel.toUpperCase()}`}
              className="rounded p-1 hover:bg-sunk"
            >
              <Download aria-hidden className="size-4" />
            </a>
            <BringPicture
              title={`Bring a picture for ${channel.toUpperCase()}: its red, or its grey`}
              label={`A picture for ${channel.toUpperCase()}`}
              onFile={(file) => act.mutate({ address: edit.address, channel, file })}
            />
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
    </Fold>
  );
}
