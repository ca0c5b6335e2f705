import { Moon, Search, Sun } from "lucide-react";
import { lazy, Suspense, useEffect, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { Link, Navigate, NavLink, Route, Routes, useNavigate, useParams } from "react-router";
import { Toaster } from "sonner";
import { ENDED, LINK, STRANGER } from "../api/client";
import { useProject, useServerEvents } from "../api/queries";
import { setLook, useTheme } from "./look";
import { nextAction, STAGES, type StageId, waiting } from "./stages";
import { WorkStrip } from "./WorkStrip";

// Each stage is fetched when it is first needed.
const OpenStage = lazy(async () => ({ default: (await import("../stages/open/OpenStage")).OpenStage }));
const FindStage = lazy(async () => ({ default: (await import("../stages/find/FindStage")).FindStage }));
const EditStage = lazy(async () => ({ default: (await import("../stages/edit/EditStage")).EditStage }));
const CheckStage = lazy(async () => ({ default: (await import("../stages/check/CheckStage")).CheckStage }));
const BuildStage = lazy(async () => ({ default: (await import("../stages/build/BuildStage")).BuildStage }));
const TryStage = lazy(async () => ({ default: (await import("../stages/try/TryStage")).TryStage }));
const GuessRoom = lazy(async () => ({ default: (await import("../stages/guess/GuessRoom")).GuessRoom }));
const ColoursRoom = lazy(async () => ({
  default: (await import("../stages/colours/ColoursRoom")).ColoursRoom,
}));
const LayoutsRoom = lazy(async () => ({
  default: (await import("../stages/layouts/LayoutsRoom")).LayoutsRoom,
}));
const Actions = lazy(async () => ({ default: (await import("./Actions")).Actions }));
const Workshop = lazy(() => import("../stages/workshop/Workshop"));

export function App() {
  useServerEvents();
  const theme = useTheme();
  const [stranger, setStranger] = useState(false);
  useEffect(() => {
    const told = () => setStranger(true);
    window.addEventListener(STRANGER, told);
    return () => window.removeEventListener(STRANGER, told);
  }, []);
  const ended = useTold(ENDED, () => true) ?? false;
  const linked = useTold(LINK, (event) => Boolean((event as CustomEvent).detail)) ?? true;
  if (ended) return <Ended />;
  if (stranger) return <Stranger />;
  return (
    <>
      <Routes>
        <Route path="/" element={<Shell stage="open" />} />
        <Route path="/p/:project" element={<Navigate to="find" replace />} />
        {STAGES.map(({ id }) => (
          <Route key={id} path={`/p/:project/${id}`} element={<Shell stage={id} />} />
        ))}
        <Route path="/p/:project/workshop" element={<Shell stage="open" room={Workshop} />} />
        <Route path="/p/:project/layouts" element={<Shell stage="open" room={LayoutsRoom} />} />
        <Route path="/p/:project/guess" element={<Shell stage="find" room={GuessRoom} />} />
        <Route path="/p/:project/colours" element={<Shell stage="find" room={ColoursRoom} />} />
        <Route path="*" element={<Navigate to="/" replace />} />
      </Routes>
      {!linked && (
        <p role="alert" className="fixed inset-x-0 top-0 z-30 bg-rust-soft px-5 py-1.5 text-center">
          Brae does not answer. If it was ended, start it again; this page goes on by itself as soon as it is
          there.
        </p>
      )}
      <Toaster
        theme={theme}
        position="bottom-right"
        offset={{ bottom: 88, right: 20 }}
        closeButton
        duration={5000}
        toastOptions={{ style: { fontFamily: "var(--font-sans)", fontSize: 14.5 } }}
      />
    </>
  );
}

/** What was announced last under a name; undefined as long as nothing was. */
function useTold<T>(name: string, read: (event: Event) => T): T | undefined {
  const [told, setTold] = useState<T | undefined>(undefined);
  // biome-ignore lint/correctness/useExhaustiveDependencies: how it is read never changes
  useEffect(() => {
    const listen = (event: Event) => setTold(read(event));
    window.addEventListener(name, listen);
    return () => window.removeEventListener(name, listen);
  }, [name]);
  return told;
}

function Ended() {
  return (
    <main className="mx-auto grid max-w-2xl gap-3 px-8 py-[20vh]">
      <img src="/favicon.svg" alt="" className="size-12" />
      <h1 className="text-[26px] font-bold text-balance">Brae has ended</h1>
      <p className="text-[17px] text-quiet">
        You can close this page. Your games and edits are kept; they are here again when you start Brae once
        more.
      </p>
    </main>
  );
}

/** The page of a Brae that has ended, or one that was opened without the secret of this start. */
function Stranger() {
  return (
    <main className="mx-auto grid max-w-2xl gap-3 px-8 py-[20vh]">
      <img src="/favicon.svg" alt="" className="size-12" />
      <h1 className="text-[26px] font-bold text-balance">
        This page does not belong to the Brae that runs now
      </h1>
      <p className="text-[17px] text-quiet">
        Each start of Brae has an address of its own, so that nobody else on this computer can use it. Open
        the address that Brae printed when it was started, or start Brae once more: it tells the address.
        Nothing is lost: your games and edits are there.
      </p>
    </main>
  );
}

const ROOMS: Record<StageId, Room> = {
  open: OpenStage,
  find: FindStage,
  edit: EditStage,
  check: CheckStage,
  build: BuildStage,
  try: TryStage,
};

type Room = React.ComponentType<{ project: string }>;

function Shell({ stage, room }: { stage: StageId; room?: Room }) {
  const { project = "" } = useParams();
  const [actionsOpen, setActionsOpen] = useState(false);
  useHotkeys("mod+k", () => setActionsOpen(true), { enableOnFormTags: true, preventDefault: true });
  const Room = room ?? ROOMS[stage];
  return (
    <div className="flex h-full flex-col">
      <Header project={project} stage={stage} onActions={() => setActionsOpen(true)} />
      <main className="min-h-0 flex-1" key={project}>
        <Suspense>
          <Room project={project} />
        </Suspense>
      </main>
      <WorkStrip project={project} />
      {actionsOpen && (
        <Suspense>
          <Actions project={project} open onOpenChange={setActionsOpen} />
        </Suspense>
      )}
    </div>
  );
}

function Header({ project, stage, onActions }: { project: string; stage: StageId; onActions: () => void }) {
  const theme = useTheme();
  const { data } = useProject(project);
  const navigate = useNavigate();
  const counts = waiting(data);
  const next = nextAction(data);
  useHotkeys(
    "alt+1,alt+2,alt+3,alt+4,alt+5,alt+6",
    (event) => {
      const target = STAGES[Number(event.code.at(-1)) - 1];
      if (target && project) navigate(`/p/${project}/${target.id}`);
    },
    { enableOnFormTags: true, preventDefault: true },
  );
  return (
    <header className="flex items-center gap-3 px-5 pt-3 pb-2 min-[1150px]:gap-5">
      <Link
        to="/"
        className="flex shrink-0 items-center gap-2 text-[22px] font-bold tracking-tight"
        title="All games"
        aria-label="Brae: all games"
      >
        <img src="/favicon.svg" alt="" className="size-8" />
        <span className={project === "" ? "" : "hidden min-[1150px]:inline"}>Brae</span>
      </Link>
      {project !== "" && (
        <nav aria-label="Stages of the work" className="flex shrink-0 items-end">
          {STAGES.map(({ id, name, icon: Icon, hint }, index) => {
            const waits = counts[id];
            const isNext = next.stage === id && stage !== id;
            return (
              <NavLink
                key={id}
                to={`/p/${project}/${id}`}
                title={`${name}: ${hint} (Alt+${index + 1})`}
                className={() =>
                  `group flex items-center gap-2 border-b-[3px] px-3 py-1.5 ${
                    stage === id ? "border-heather font-bold" : "border-line text-quiet hover:text-ink"
                  }`
                }
              >
                <Icon aria-hidden className="hidden size-[18px] min-[1150px]:block" />
                <span>{name}</span>
                {waits !== undefined && waits.number > 0 && (
                  <span
                    role="img"
                    className={`min-w-6 rounded-full px-1.5 text-center text-[12.5px] font-bold ${
                      waits.attention
                        ? "bg-rust-soft text-rust"
                        : isNext
                          ? "bg-gorse text-gorse-ink"
                          : "bg-sunk text-quiet"
                    }`}
                    aria-label={`${waits.number} ${waits.what}`}
                  >
                    {waits.number}
                  </span>
                )}
              </NavLink>
            );
          })}
        </nav>
      )}
      <span className="flex-1" />
      {data && (
        <span className="max-w-52 min-w-16 truncate text-quiet" title={data.folder}>
          {data.name}
        </span>
      )}
      <button
        type="button"
        onClick={onActions}
        className="flex shrink-0 items-center gap-2 rounded-lg bg-sunk px-3 py-1.5 text-quiet hover:text-ink"
      >
        <Search aria-hidden className="size-4" /> Actions{" "}
        <kbd className="hidden text-[12px] min-[1150px]:inline">Ctrl K</kbd>
      </button>
      <button
        type="button"
        className="rounded-lg p-2 text-quiet hover:bg-sunk hover:text-ink"
        aria-label={theme === "dark" ? "Light theme" : "Dark theme"}
        title={theme === "dark" ? "Light theme" : "Dark theme"}
        onClick={() => setLook({ theme: theme === "dark" ? "light" : "dark" })}
      >
        {theme === "dark" ? <Sun className="size-5" /> : <Moon className="size-5" />}
      </button>
    </header>
  );
}
