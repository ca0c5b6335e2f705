import { OctagonX, PlayCircle, Smile, TriangleAlert, Volume2 } from "lucide-react";
import { type KeyboardEvent, useRef, useState } from "react";
import { Link } from "react-router";
import { useProject, useTrial } from "../../api/queries";
import { Button, Choice, Empty } from "../../components/controls";
import { baseName, many } from "../../lib/format";

type Side = "before" | "after";
type Report = NonNullable<ReturnType<typeof useTrial>["data"]>["after"];
type Line = Report["lines"][number];

/** The stand-in for the game loads the files, before and after, and says what it did. */
export function TryStage({ project }: { project: string }) {
  const { data } = useProject(project);
  if (!data) return null;
  if (!data.standin)
    return (
      <Empty title="This game has no stand-in">
        Brae ships a stand-in for its demo game only. Your built files lie in the game's folder: start the
        game itself to see them, and restore the originals on{" "}
        <Link className="underline" to={`/p/${project}/build`}>
          Build
        </Link>{" "}
        whenever you like.
      </Empty>
    );
  return <Trial project={project} changed={data.counts.built_files} />;
}

function Trial({ project, changed }: { project: string; changed: number }) {
  const { data: trial, isFetching, refetch, error } = useTrial(project);
  const [side, setSide] = useState<Side>("after");
  if (error) return <Empty title="The trial did not run">{error.message}</Empty>;
  if (!trial) return <Empty title="The stand-in is loading the game…">A moment.</Empty>;
  const report = trial[side];
  const replaced = Object.keys(report.placeholders).length;
  const faults = report.lines.filter((one) => one.fault);
  return (
    <div className="flex h-full gap-6 overflow-hidden px-6 pt-1 pb-3">
      <div className="flex min-w-0 flex-1 flex-col gap-3">
        <div className="flex items-center gap-4">
          <Choice
            label="Which state of the game"
            value={side}
            onChange={setSide}
            options={[
              ["before", "Before"],
              ["after", "After"],
            ]}
          />
          <span className="text-quiet">
            {changed === 0
              ? "No file of the game is changed, so both are the same."
              : `${many(changed, "file")} of the game changed.`}
          </span>
          <span className="flex-1" />
          <Button onClick={() => refetch()} disabled={isFetching}>
            <PlayCircle aria-hidden className="size-4" /> Play again
          </Button>
        </div>
        <button
          type="button"
          aria-label={`The scene ${side}; press to see the other`}
          className="relative min-h-0 flex-1"
          onClick={() => setSide(side === "after" ? "before" : "after")}
        >
          <img
            alt={`The scene as the game draws it, ${side} the build`}
            src={report.scene}
            className="size-full rounded-xl object-contain object-left-top"
          />
        </button>
      </div>
      <aside className="flex w-[340px] shrink-0 flex-col gap-3" aria-label="Trace">
        {report.refused ? (
          <Verdict
            icon={OctagonX}
            className="bg-rust-soft text-rust"
            title="The game refuses to start"
            words={report.refused}
          />
        ) : replaced > 0 ? (
          <Verdict
            icon={TriangleAlert}
            className="bg-rust-soft text-rust"
            title={`${many(replaced, "texture")} replaced by the game's placeholder`}
            words={Object.values(report.placeholders).join("; ")}
          />
        ) : faults.length > 0 ? (
          <Verdict
            icon={TriangleAlert}
            className="bg-rust-soft text-rust"
            title={`${many(faults.length, "sound")} not as the game wants them`}
            words={faults.map((one) => `${baseName(one.name)}: ${one.fault}`).join("; ")}
          />
        ) : (
          <Verdict
            icon={Smile}
            className="bg-moss-soft text-moss"
            title="The game takes everything"
            words="Each texture is exactly what its table expects."
          />
        )}
        {report.lines.length > 0 && <Heard key={side} report={report} />}
        {Object.keys(report.menus).length > 0 && <Menus key={`menus ${side}`} report={report} />}
        <h2 className="font-bold">What it loaded</h2>
        {/* biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling list must be reachable by keyboard */}
        <ol tabIndex={0} className="min-h-0 flex-1 overflow-auto rounded-xl bg-raised p-3 text-[13.5px]">
          {report.trace.map((line) => (
            <li key={line} className="border-b border-line py-0.5 last:border-0">
              {line}
            </li>
          ))}
        </ol>
      </aside>
    </div>
  );
}

/** The game's menus, walked by the keyboard or by pressing: the cursor goes as the game lets it. */
function Menus({ report }: { report: Report }) {
  const [trail, setTrail] = useState([report.first_menu]);
  const [on, setOn] = useState(0);
  const number = trail.at(-1) ?? report.first_menu;
  const menu = report.menus[number];
  const box = menu?.boxes[on];
  const [size, setSize] = useState({ width: 96, height: 64 });
  const press = (place: number) => {
    const target = menu?.targets[place];
    if (menu?.does[place] === "goes back") back();
    if (menu?.does[place] !== "opens" || target === undefined || !report.menus[target]) return;
    setTrail([...trail, target]);
    setOn(0);
  };
  const back = () => {
    if (trail.length < 2) return;
    setTrail(trail.slice(0, -1));
    setOn(0);
  };
  const onKey = (event: KeyboardEvent) => {
    const way = { ArrowUp: "up", ArrowDown: "down", ArrowLeft: "left", ArrowRight: "right" }[event.key];
    if (way) setOn(menu?.ways[on]?.[way] ?? on);
    else if (event.key === "Enter") press(on);
    else if (event.key === "Backspace") back();
    else return;
    event.preventDefault();
  };
  if (!menu) return null;
  const target = menu.targets[on];
  const share = (value: number | undefined, of: number) => `${((value ?? 0) / of) * 100}%`;
  return (
    <section aria-label="Walk the menus" className="grid gap-2 rounded-xl bg-raised p-3">
      <button
        type="button"
        aria-label={`Screen ${number}, rectangle ${on} of ${menu.boxes.length}; arrow keys, Enter, Backspace`}
        className="relative block w-full"
        onKeyDown={onKey}
        onClick={(event) => {
          const shown = event.currentTarget.getBoundingClientRect();
          const x = ((event.clientX - shown.left) / shown.width) * size.width;
          const y = ((event.clientY - shown.top) / shown.height) * size.height;
          const place = menu.boxes.findIndex(
            ([left = 0, top = 0, width = 0, height = 0]) =>
              x >= left && x < left + width && y >= top && y < top + height,
          );
          if (event.detail > 0 && place >= 0) press(place);
        }}
      >
        <img
          alt=""
          src={menu.picture}
          className="pixelated w-full rounded-md"
          onLoad={({ currentTarget: one }) => setSize({ width: one.naturalWidth, height: one.naturalHeight })}
        />
        {box && (
          <span
            className="absolute border-[3px] border-gorse"
            style={{
              left: share(box[0], size.width),
              top: share(box[1], size.height),
              width: share(box[2], size.width),
              height: share(box[3], size.height),
            }}
          />
        )}
      </button>
      <p className="flex items-center gap-2 text-[14px] text-quiet">
        <span className="flex-1">
          Screen {String(number).padStart(4, "0")}
          {target === undefined
            ? ": nothing to press"
            : menu.does[on] !== "opens"
              ? `, ${menu.does[on]}`
              : report.menus[target]
                ? `, leads to ${String(target).padStart(4, "0")}`
                : `, leads to ${String(target).padStart(4, "0")}, which is not near enough to be shown`}
        </span>
        <Button disabled={trail.length < 2} onClick={back} title="Backspace">
          Back
        </Button>
      </p>
    </section>
  );
}

/** What is heard in the scene: a press plays it, and the speaker's mouth moves as the game moves it. */
function Heard({ report }: { report: Report }) {
  const [line, setLine] = useState<Line | null>(null);
  const [at, setAt] = useState(0);
  const player = useRef<HTMLAudioElement>(null);
  const play = async (one: Line) => {
    const now = player.current;
    if (!now) return;
    setLine(one);
    const [head = "", body = ""] = one.sound.split(",");
    const bytes = Uint8Array.from(atob(body), (char) => char.charCodeAt(0));
    URL.revokeObjectURL(now.src);
    now.src = URL.createObjectURL(new Blob([bytes], { type: head.slice(5).split(";")[0] }));
    await now.play();
  };
  const speaker = line?.speaker || Object.keys(report.faces)[0] || "";
  const shape = line?.moves.find(([start = 0, end = 0]) => at >= start && at < end)?.[2] ?? 0;
  return (
    <section aria-label="What is heard" className="flex items-center gap-3 rounded-xl bg-raised p-3">
      {/* biome-ignore lint/a11y/useMediaCaption: what is said stands beside it */}
      <audio
        ref={player}
        onPlay={() => {
          const step = () => {
            const now = player.current;
            setAt(now?.paused ? -1 : (now?.currentTime ?? 0));
            if (now && !now.paused) requestAnimationFrame(step);
          };
          step();
        }}
      />
      {report.faces[speaker] && (
        <div
          role="img"
          aria-label={`${speaker}, mouth ${shape}`}
          className="size-28 shrink-0 rounded-lg bg-[length:auto_100%]"
          style={{
            backgroundImage: `url(${report.faces[speaker]})`,
            backgroundPositionX: `${-shape * 7}rem`,
          }}
        />
      )}
      <ul className="grid min-w-0 flex-1 gap-1">
        {report.lines.map((one) => (
          <li key={one.name} className="min-w-0">
            <button
              type="button"
              disabled={!one.sound}
              className="flex w-full min-w-0 items-center gap-1.5 rounded-md px-2 py-1 text-left hover:bg-sunk disabled:text-quiet"
              onClick={() => void play(one)}
            >
              <Volume2 aria-hidden className="size-4 shrink-0" />
              <span className="truncate">{one.name.replace(/^(voices|sounds|tunes)\//, "")}</span>
            </button>
            {one.fault && <p className="px-2 text-[13px] text-rust">{one.fault}</p>}
          </li>
        ))}
      </ul>
    </section>
  );
}

function Verdict({
  icon: Icon,
  className,
  title,
  words,
}: {
  icon: typeof Smile;
  className: string;
  title: string;
  words: string;
}) {
  return (
    <div role="status" className={`flex items-start gap-2 rounded-xl p-3 ${className}`}>
      <Icon aria-hidden className="mt-0.5 size-5 shrink-0" />
      <div className="min-w-0 text-ink">
        <b>{title}</b>
        <p className="text-[14px] break-words">{words}</p>
      </div>
    </div>
  );
}
