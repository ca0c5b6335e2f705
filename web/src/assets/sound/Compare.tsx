/** Two sounds one above the other on one time axis; playing goes on at the same place when they are exchanged. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { client, type Edit, previewUrl, type Schemas, take } from "../../api/client";
import { Button, Choice } from "../../components/controls";
import { BY_KEY } from "../../lib/keys";
import { Editor } from "../track/Editor";
import { OnAxis, type Outline, Pointed, useAxis, useEnvelope, Waveform, ZoomButtons } from "./axis";
import { PlayButtons, type Source, usePlayer } from "./usePlayer";
import { Words } from "./Words";

type Which = "original" | "edit";
type Heard = Which | "lost";
type View = "wave" | "spectrum";

/** A sound; where a layout says that its cue points hold words, these are edited here too. */
export default function Compare({ project, edit }: { project: string; edit: Edit }) {
  const [room, setRoom] = useState<"sound" | "words">("sound");
  const { data: words } = useQuery({
    queryKey: ["words", project, edit.address, edit.revision],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/sound/words", {
          params: { path: { project_id: project }, query: { address: edit.address } },
        }),
      ),
    placeholderData: (before) => before,
  });
  if (!words) return <Sounds project={project} edit={edit} />;
  return (
    <div className="flex h-full min-h-0 flex-col gap-3">
      <div className="w-fit shrink-0">
        <Choice
          label="What is edited"
          value={room}
          onChange={setRoom}
          options={[
            ["sound", "The sound"],
            ["words", "What is said in it"],
          ]}
        />
      </div>
      <div className="min-h-0 flex-1">
        {room === "sound" ? (
          <Sounds project={project} edit={edit} />
        ) : (
          <Editor project={project} edit={edit} of="sound" view={words} sound={edit} />
        )}
      </div>
    </div>
  );
}

function Sounds({ project, edit }: { project: string; edit: Edit }) {
  const hasEdit = edit.position > 0;
  const [which, setWhich] = useState<Heard>(hasEdit ? "edit" : "original");
  // The first file that comes back is what one wants to hear.
  const [had, setHad] = useState(hasEdit);
  if (had !== hasEdit) {
    setHad(hasEdit);
    setWhich(hasEdit ? "edit" : "original");
  }
  const [level, setLevel] = useState<"safe" | "true" | "equal">("safe");
  const [view, setView] = useState<View>("wave");
  const [apart, setApart] = useState(false);
  const [pointed, setPointed] = useState<number | null>(null);
  const [sides, setSides] = useState({ longest: 0.001, rate: 44100 });
  const axis = useAxis(sides.longest, sides.rate);
  const { data } = useEnvelope(project, edit.address, edit.revision, axis, apart);
  const several = Math.max(data?.original.channels ?? 1, data?.edit?.channels ?? 1) > 1;
  const longest = Math.max(data?.original.seconds ?? 0, data?.edit?.seconds ?? 0, 0.001);
  const rate = data?.original.rate ?? 44100;
  if (data && (sides.longest !== longest || sides.rate !== rate)) setSides({ longest, rate });
  const spectrumOf = (one: Which) =>
    previewUrl(project, edit.address, {
      which: one,
      view: "spectrum",
      width: 2048,
      height: 256,
      seconds: longest,
      revision: edit.revision,
    });
  const heard =
    (one: Heard): Source =>
    (start, stop) =>
      previewUrl(project, edit.address, { which: one, level, start, stop, revision: edit.revision });
  const player = usePlayer(heard(which), longest, hasEdit ? [heard("original"), heard("edit")] : []);
  const details = edit.details as Schemas["SoundDetails"];
  const cost = hasEdit && details.snr != null ? details : null;
  const other = () => setWhich(which === "edit" ? "original" : "edit");
  useHotkeys("x", () => hasEdit && other(), BY_KEY, [which, hasEdit]);
  return (
    <div className="-m-1 flex h-[calc(100%+8px)] min-h-0 flex-col gap-3 overflow-y-auto overflow-x-hidden p-1">
      <div className="flex flex-wrap items-center gap-3">
        <PlayButtons player={player} />
        {hasEdit && (
          <Choice
            label="Which one is heard ( X )"
            value={which}
            onChange={setWhich}
            options={[
              ["original", "Original"],
              ["edit", "Edit"],
              ["lost", "What encoding lost"],
            ]}
          />
        )}
        <Choice
          label="How loud it is played"
          value={level}
          onChange={setLevel}
          options={[
            ["safe", "Safe loudness"],
            ...(hasEdit ? [["equal", "Equally loud"] as const] : []),
            ["true", "True loudness"],
          ]}
        />
        <Choice
          label="What is seen of them"
          value={view}
          onChange={setView}
          options={[
            ["wave", "Waveform"],
            ["spectrum", "Spectrum"],
          ]}
        />
        {several && view === "wave" && (
          <Button
            aria-pressed={apart}
            className={apart ? "outline-[3px] outline-heather" : ""}
            onClick={() => setApart(!apart)}
          >
            Channels apart
          </Button>
        )}
        <ZoomButtons axis={axis} />
        <span className="text-quiet tabular-nums">
          {player.at.toFixed(2)} of {longest.toFixed(2)} s
        </span>
      </div>
      {player.audio}
      <div className="flex min-h-6 shrink-0 items-baseline gap-3">
        {data && <Head name="original" outline={data.original} />}
        <span className="flex-1" />
        <Pointed seconds={pointed} rate={rate} />
      </div>
      <OnAxis axis={axis} onPoint={setPointed}>
        {data && (
          <Shown
            name="original"
            outline={data.original}
            spectrum={view === "spectrum" ? spectrumOf("original") : null}
            axis={axis}
            at={player.at}
            on={which === "original"}
            onSeek={player.seek}
          />
        )}
        {data?.edit && (
          <>
            <div className="sticky left-0 w-fit">
              <Head name="edit" outline={data.edit} />
            </div>
            <Shown
              name="edit"
              outline={data.edit}
              spectrum={view === "spectrum" ? spectrumOf("edit") : null}
              axis={axis}
              at={player.at}
              on={which === "edit"}
              onSeek={player.seek}
            />
          </>
        )}
      </OnAxis>
      {cost && (
        <p className="text-[14px] text-quiet tabular-nums">
          What encoding cost: signal to noise {cost.snr?.toFixed(1)} dB
          {cost.spectral == null ? "" : ` · spectra ${cost.spectral.toFixed(1)} dB apart`}
        </p>
      )}
      {data && (
        <Words
          project={project}
          address={edit.address}
          revision={edit.revision}
          which={which === "original" ? "original" : "edit"}
          axis={axis}
          at={player.at}
          onPlay={player.playPart}
        />
      )}
    </div>
  );
}

function Head({ name, outline }: { name: Which; outline: Outline }) {
  const [atStart = 0, atEnd = 0] = outline.silence;
  return (
    <p className="flex items-baseline gap-3">
      <b>{name}</b>
      <span className="text-[14px] text-quiet tabular-nums">
        {outline.seconds.toFixed(3)} s
        {outline.loudness == null ? " · silence" : ` · ${outline.loudness.toFixed(1)} LUFS`}
        {outline.peak == null ? "" : ` · true peak ${outline.peak.toFixed(1)} dBTP`}
        {` · ${outline.codec}, ${outline.rate.toLocaleString("en")} Hz, ${
          { 1: "mono", 2: "stereo" }[outline.channels] ?? `${outline.channels} channels`
        }, ${Math.round(outline.bit_rate / 1000).toLocaleString("en")} kbit/s`}
        {outline.offset >= 0.001 ? ` · ${(100 * outline.offset).toFixed(1)} % beside the middle` : ""}
        {atStart >= 0.005 ? ` · ${Math.round(1000 * atStart)} ms silent at the start` : ""}
        {atEnd >= 0.005 && atStart < outline.seconds ? ` · ${Math.round(1000 * atEnd)} ms at the end` : ""}
      </span>
    </p>
  );
}

function Shown({
  name,
  on,
  spectrum,
  ...rest
}: Omit<Parameters<typeof Waveform>[0], "label" | "className"> & { name: Which; on: boolean }) {
  return (
    <div className="relative overflow-clip rounded-xl">
      <Waveform
        {...rest}
        spectrum={spectrum}
        label={`${spectrum ? "Spectrum" : "Waveform"} of the ${name}`}
      />
      {on && (
        <span
          className="pointer-events-none sticky left-0 -mt-40 block h-40 rounded-xl border-[3px] border-heather"
          style={{ width: rest.axis.width }}
        />
      )}
      {spectrum && (
        <>
          <span className="pointer-events-none absolute top-1 right-2 rounded bg-paper/80 px-1 text-[12px] text-ink">
            {(rest.outline.rate / 2000).toFixed(0)} kHz
          </span>
          <span className="pointer-events-none absolute right-2 bottom-1 rounded bg-paper/80 px-1 text-[12px] text-ink">
            40 Hz
          </span>
        </>
      )}
    </div>
  );
}
