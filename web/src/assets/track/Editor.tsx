/** Words over phonemes over the sound in which they are said; the original's below, and a mouth that moves. */
import { useQuery } from "@tanstack/react-query";
import { Combine, Scissors, Trash2, UnfoldHorizontal } from "lucide-react";
import { type FormEvent, type KeyboardEvent, useRef, useState } from "react";
import { client, type Edit, type Member, previewUrl, type Schemas, take } from "../../api/client";
import { useAct, useEdits } from "../../api/queries";
import { Button, Choice, Tick } from "../../components/controls";
import { baseName } from "../../lib/format";
import { useInTurn } from "../../lib/useInTurn";
import { OnAxis, Pointed, useAxis, useEnvelope, Waveform, ZoomButtons } from "../sound/axis";
import { PlayButtons, usePlayer } from "../sound/usePlayer";
import { type Language, LanguageChoice } from "../sound/Words";
import { type Chosen, Lane } from "./Lane";
import { Mouth } from "./Mouth";
import {
  called,
  inserted,
  joined,
  moved,
  type Neighbours,
  pieces,
  type Side,
  saidAt,
  snapped,
  split,
  spread,
  type Track,
  without,
  wordOf,
} from "./pieces";

type View = Schemas["TrackView"];
/** Steps by the keyboard come in a row: they are one version. Seconds of such a step, and within which it snaps. */
const TOGETHER = 600;
const STEP = 0.01;
const SNAP = 0.03;

/** ``of``: whether the words are a track of their own, or lie in the cue points of the sound itself. */
export function Editor({
  project,
  edit,
  of,
  view,
  sound,
  missing = false,
}: {
  project: string;
  edit: Edit;
  of: "track" | "sound";
  view: View;
  sound: Pick<Member, "address" | "name"> | undefined;
  missing?: boolean;
}) {
  const { data: edits } = useEdits(project);
  const heard = edits?.find((one) => one.address === sound?.address);
  const which = heard?.position ? "edit" : "original";
  const revision = heard?.revision ?? "";
  const set = useAct(({ track, done }: { track: Track; done: string }) =>
    take(
      client.PUT(`/api/projects/{project_id}/${of}/set`, {
        params: {
          path: { project_id: project },
          query: { address: edit.address, done },
          header: { "X-File-Name": "track.json" },
        },
        body: new Blob([JSON.stringify(track)]) as never,
        bodySerializer: (body: unknown) => body as Blob,
        headers: { "Content-Type": "application/octet-stream" },
      } as never),
    ),
  );
  const doing = useRef("");
  const [track, save, show] = useInTurn<Track>(view.edit, (next) =>
    set.mutateAsync({ track: next, done: doing.current }),
  );
  const [chosen, setChosen] = useState<Chosen>(null);
  const [neighbours, setNeighbours] = useState<Neighbours>("follow");
  const [snap, setSnap] = useState(true);
  const [pointed, setPointed] = useState<number | null>(null);
  const [sides, setSides] = useState({ longest: Math.max(track.seconds, 0.1), rate: 44100 });
  const axis = useAxis(sides.longest, sides.rate);
  const { data: envelope } = useEnvelope(project, sound?.address, revision, axis);
  const outline = (which === "edit" ? envelope?.edit : null) ?? envelope?.original;
  const longest = Math.max(outline?.seconds ?? 0, track.seconds, 0.1);
  const rate = outline?.rate ?? 44100;
  if (sides.longest !== longest || sides.rate !== rate) setSides({ longest, rate });
  const player = usePlayer(
    sound &&
      ((start, stop) => previewUrl(project, sound.address, { which, level: "safe", start, stop, revision })),
    longest,
  );
  const { data: onsets } = useQuery({
    queryKey: ["onsets", project, sound?.address, revision],
    enabled: sound !== undefined,
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/sound/onsets", {
          params: { path: { project_id: project }, query: { address: sound?.address ?? "", which } },
        }),
      ),
  });
  const act = (next: Track, done: string, wait = 0) => {
    doing.current = done;
    save(next, wait);
  };
  const near = (seconds: number) =>
    snap ? snapped(seconds, onsets ?? [], Math.min(SNAP, (axis.to - axis.from) / 60)) : seconds;
  const drag = (place: number, side: Side | null, seconds: number) => {
    if (!chosen) return;
    const next = moved(track, chosen.level, place, side, near(seconds), neighbours, longest);
    doing.current = "Times moved";
    show(next);
  };
  const piece = chosen ? pieces(track, chosen.level)[chosen.at] : undefined;
  const step = (seconds: number, side: Side | null) => {
    if (!chosen || !piece) return;
    const from = side === "end" ? piece.end : piece.start;
    const next = moved(track, chosen.level, chosen.at, side, from + seconds, neighbours, longest);
    act(next, "Times moved", TOGETHER);
  };
  const remove = () => {
    if (!chosen) return;
    act(
      without(track, chosen.level, chosen.at),
      `Without ${piece && "code" in piece ? piece.code : piece?.text}`,
    );
    setChosen(null);
  };
  const onKey = (event: KeyboardEvent) => {
    if (event.target instanceof HTMLInputElement) return;
    // Not less than the file can tell apart.
    const least = Math.max(STEP, view.step);
    const way = { ArrowLeft: -least, ArrowRight: least }[event.key];
    if (way !== undefined && chosen) step(way, event.shiftKey ? "end" : event.altKey ? "start" : null);
    else if (event.key === "Delete") remove();
    else if (event.key === "Escape") setChosen(null);
    else return;
    event.preventDefault();
  };
  const code = saidAt(track, player.at);
  const shape = view.mouths[code === null ? 0 : (view.codes[code] ?? 0)];
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: the keys are for the pieces in it, which have the focus
    <div className="flex h-full min-h-0 flex-col gap-3 overflow-x-hidden overflow-y-auto" onKeyDown={onKey}>
      <div className="flex flex-wrap items-center gap-3">
        <PlayButtons player={player} disabled={!sound} />
        <Choice
          label="What its neighbours do when a piece is moved"
          value={neighbours}
          onChange={setNeighbours}
          options={[
            ["follow", "Neighbours follow"],
            ["push", "are pushed"],
            ["leave", "stay"],
          ]}
        />
        <Tick title="Edges go to where something begins in the sound" checked={snap} onChange={setSnap}>
          Snap to the sound
        </Tick>
        <ZoomButtons axis={axis} middle={piece && (piece.start + piece.end) / 2} />
      </div>
      {player.audio}
      <div className="min-w-0 shrink-0">
        <p className="mb-1 flex h-6 items-baseline gap-2 text-[14px]">
          {sound && (
            <>
              <b className="truncate">{baseName(sound.name)}</b>
              <span className="text-quiet">{which === "edit" ? "as it is edited" : "the original"}</span>
              <span className="text-quiet tabular-nums">
                {player.at.toFixed(2)} of {longest.toFixed(2)} s
              </span>
            </>
          )}
          <span className="flex-1" />
          <Pointed seconds={pointed} rate={rate} />
        </p>
        {missing && (
          <p className="mb-1 text-quiet">
            {view.sound
              ? `Its sound, ${view.sound}, is not in this game.`
              : "The layout does not say in which sound this is said."}
          </p>
        )}
        <OnAxis axis={axis} onPoint={setPointed}>
          {outline && (
            <Waveform
              outline={outline}
              axis={axis}
              at={player.at}
              label="The sound in which it is said"
              className="h-44"
              onSeek={player.seek}
            />
          )}
          {(["word", "phoneme"] as const).map((level) => (
            <Lane
              key={level}
              track={track}
              level={level}
              axis={axis}
              at={player.at}
              chosen={chosen}
              onChoose={setChosen}
              onHear={player.playPart}
              onDrag={drag}
              onDrop={() => save(track)}
            />
          ))}
          {edit.position > 0 && (
            <>
              <p className="sticky left-0 mt-1 w-fit text-[13.5px] text-quiet">the original</p>
              {(["word", "phoneme"] as const).map((level) => (
                <Lane
                  key={level}
                  track={view.original}
                  level={level}
                  axis={axis}
                  at={-1}
                  chosen={null}
                  quiet
                  onHear={player.playPart}
                />
              ))}
            </>
          )}
        </OnAxis>
      </div>
      <div className="flex items-start gap-3">
        <div className="ground shrink-0 rounded-xl p-1">
          <Mouth shape={shape} />
        </div>
        <div className="grid min-w-0 flex-1 gap-3">
          {sound && (
            <Sentence
              project={project}
              address={sound.address}
              which={which}
              said={track.words.flatMap((word) => word.text || []).join(" ")}
              onPlaced={(words) => act({ ...track, words, seconds: 0 }, "Words placed by the sound")}
            />
          )}
          {chosen && piece ? (
            <ChosenPiece
              key={`${chosen.level} ${chosen.at}`}
              name={"code" in piece ? piece.code : piece.text}
              level={chosen.level}
              codes={Object.keys(view.codes)}
              start={piece.start}
              end={piece.end}
              onName={(name) => act(called(track, chosen.level, chosen.at, name), `${name}`)}
              onTime={(side, seconds) =>
                act(moved(track, chosen.level, chosen.at, side, seconds, neighbours, longest), "Times moved")
              }
              onSplit={() => act(split(track, chosen.level, chosen.at), "Split in two")}
              onJoin={() => act(joined(track, chosen.level, chosen.at), "Two joined")}
              onSpread={() => {
                const word = chosen.level === "word" ? chosen.at : wordOf(track, chosen.at).word;
                act(spread(track, word), "Phonemes spread evenly");
              }}
              onRemove={remove}
            />
          ) : (
            <p className="text-quiet">
              Drag a word or a phoneme by its edges or as a whole; a double press plays it. Arrow keys move
              the chosen one, with Shift its end; Page Up and Page Down choose the one before and the one
              behind it.
            </p>
          )}
          {view.phonemes && (
            <fieldset
              className="m-0 flex flex-wrap items-center gap-1 border-0 p-0"
              aria-label="Put a phoneme in"
            >
              <span className="mr-1 text-[14px] text-quiet">Put in at {player.at.toFixed(2)} s</span>
              {Object.entries(view.codes).map(([one, mouth]) => (
                <button
                  key={one}
                  type="button"
                  title={`As in ${view.mouths[mouth]?.example ?? ""}`}
                  className="rounded-md bg-sunk px-2 py-0.5 text-[14px] hover:bg-line"
                  onClick={() => act(inserted(track, one, player.at), `${one} put in`)}
                >
                  {one}
                </button>
              ))}
            </fieldset>
          )}
        </div>
      </div>
    </div>
  );
}

function Sentence({
  project,
  address,
  which,
  said,
  onPlaced,
}: {
  project: string;
  address: string;
  which: "original" | "edit";
  said: string;
  onPlaced: (words: Track["words"]) => void;
}) {
  const [text, setText] = useState(said);
  const [notes, setNotes] = useState<string[]>([]);
  const [language, setLanguage] = useState<Language>("en");
  const place = useAct(
    (words: string) =>
      take(
        client.GET("/api/projects/{project_id}/sound/spoken", {
          params: { path: { project_id: project }, query: { address, text: words, which, language } },
        }),
      ),
    (spoken) => {
      setNotes(spoken.notes);
      onPlaced(spoken.words);
    },
  );
  const submit = (event: FormEvent) => {
    event.preventDefault();
    place.mutate(text.trim());
  };
  return (
    <form className="flex flex-wrap items-center gap-2" onSubmit={submit}>
      <input
        aria-label="What is said in it"
        placeholder="What is said in it"
        className="w-64 min-w-40 grow rounded-lg border border-line bg-raised px-3 py-1.5"
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      <LanguageChoice language={language} onChange={setLanguage} />
      <Button type="submit" disabled={!text.trim() || place.isPending}>
        {place.isPending ? "Listening …" : "Place the words"}
      </Button>
      {notes.map((note) => (
        <p key={note} className="w-full text-quiet">
          {note}
        </p>
      ))}
    </form>
  );
}

function ChosenPiece({
  name,
  level,
  codes,
  start,
  end,
  onName,
  onTime,
  onSplit,
  onJoin,
  onSpread,
  onRemove,
}: {
  name: string;
  level: "word" | "phoneme";
  codes: string[];
  start: number;
  end: number;
  onName: (name: string) => void;
  onTime: (side: Side, seconds: number) => void;
  onSplit: () => void;
  onJoin: () => void;
  onSpread: () => void;
  onRemove: () => void;
}) {
  const field = "rounded-lg border border-line bg-raised px-2 py-1 tabular-nums";
  return (
    <div className="flex flex-wrap items-center gap-2 rounded-xl bg-raised p-2.5">
      {level === "word" ? (
        <input
          aria-label="The word"
          className={`${field} w-36`}
          defaultValue={name}
          onBlur={(event) => event.target.value !== name && onName(event.target.value)}
        />
      ) : (
        <select
          aria-label="The phoneme"
          className={`${field} w-24`}
          value={name}
          onChange={(event) => onName(event.target.value)}
        >
          {codes.map((code) => (
            <option key={code}>{code}</option>
          ))}
        </select>
      )}
      {(["start", "end"] as const).map((side) => (
        <label key={side} className="flex items-center gap-1 text-[14px] text-quiet">
          {side === "start" ? "from" : "to"}
          <input
            key={side === "start" ? start : end}
            type="number"
            step={0.001}
            min={0}
            className={`${field} w-24 text-ink`}
            defaultValue={(side === "start" ? start : end).toFixed(3)}
            onBlur={(event) => {
              const seconds = event.target.valueAsNumber;
              const now = side === "start" ? start : end;
              if (Number.isFinite(seconds) && Math.abs(seconds - now) > 5e-4) onTime(side, seconds);
            }}
            onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
          />
        </label>
      ))}
      <Button onClick={onSplit}>
        <Scissors aria-hidden className="size-4" /> Split
      </Button>
      <Button onClick={onJoin}>
        <Combine aria-hidden className="size-4" /> Join with the next
      </Button>
      <Button onClick={onSpread} title="All phonemes of the word as long as each other">
        <UnfoldHorizontal aria-hidden className="size-4" /> Spread evenly
      </Button>
      <Button onClick={onRemove} title="Delete">
        <Trash2 aria-hidden className="size-4" /> Take away
      </Button>
    </div>
  );
}
