import { Download, Redo2, Undo2, Upload } from "lucide-react";
import { Suspense, useRef, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { Edit } from "../../api/client";
import { useEdits, useGoTo, useProject, useTakeOut, useTestColours, useUpload } from "../../api/queries";
import type { Spot } from "../../assets/face";
import { useKind } from "../../assets/kinds";
import { faceOf } from "../../assets/registry";
import { Button, Copyable, Empty } from "../../components/controls";
import { Findings } from "../../components/Findings";
import { NewItem } from "../../components/NewItem";
import { Sheet } from "../../components/Sheet";
import { StateMark } from "../../components/StateMark";
import { ANYWHERE, BY_KEY } from "../../lib/keys";
import { Copies } from "./Copies";

const endingOf = (name: string) => name.match(/\.[^./]*$/)?.[0] ?? "";

/** The original and the edit together, with the file, its versions and the match. */
export function EditStage({ project }: { project: string }) {
  const [params] = useSearchParams();
  const { data: edits, isLoading, isFetching } = useEdits(project);
  const wanted = params.get("item");
  const edit =
    edits?.find((one) => one.address === wanted) ?? (wanted && isFetching ? undefined : edits?.[0]);
  const navigate = useNavigate();
  const go = (steps: number) => {
    if (!edits || !edit) return;
    const next = edits[(edits.indexOf(edit) + steps + edits.length) % edits.length];
    if (next) navigate(`/p/${project}/edit?item=${encodeURIComponent(next.address)}`);
  };
  useHotkeys("n", () => go(1), BY_KEY, [edits, edit]);
  useHotkeys("p", () => go(-1), BY_KEY, [edits, edit]);
  if (isLoading || (wanted && isFetching && !edit)) return null;
  if (!edit)
    return (
      <Empty
        title="Nothing is being edited"
        action={
          <Link to={`/p/${project}/find`} className="rounded-lg bg-gorse px-4 py-2 font-bold text-gorse-ink">
            Find something to change
          </Link>
        }
      >
        Choose an item on Find and press Edit this: its file appears in the exchange folder. Open it in your
        editor and save it; it comes back by itself and is shown here beside the original.
      </Empty>
    );
  return <Editing key={edit.address} project={project} edit={edit} />;
}

function Editing({ project, edit }: { project: string; edit: Edit }) {
  const face = faceOf(edit.kind);
  const kind = useKind(edit.kind);
  const upload = useUpload(project);
  const takeOut = useTakeOut(project);
  const goTo = useGoTo(project);
  const marks = useTestColours(project);
  const navigate = useNavigate();
  const [over, setOver] = useState(false);
  const [spot, setSpot] = useState<Spot | null>(null);
  const chooser = useRef<HTMLInputElement>(null);
  const hasEdit = edit.position > 0;
  const step = (position: number) => {
    if (position >= 0 && position <= edit.steps.length) goTo.mutate({ address: edit.address, position });
  };
  useHotkeys("mod+z", () => step(edit.position - 1), { ...ANYWHERE, preventDefault: true });
  useHotkeys("mod+shift+z,mod+y", () => step(edit.position + 1), { ...ANYWHERE, preventDefault: true });
  const take = (files: FileList | null) => {
    const file = files?.[0];
    if (file) upload.mutate({ address: edit.address, file });
  };
  return (
    <section
      aria-label={`Editing ${edit.name}`}
      className="flex h-full gap-4 px-5 pt-1 pb-3"
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        event.preventDefault();
        setOver(false);
        take(event.dataTransfer.files);
      }}
    >
      <div className={`min-w-0 flex-1 rounded-xl ${over ? "outline-4 outline-gorse" : ""}`}>
        <Suspense>
          <face.Compare project={project} edit={edit} spot={spot} />
        </Suspense>
      </div>
      <aside className="flex w-[372px] shrink-0 flex-col gap-4 overflow-auto pr-1" aria-label="The edit">
        <div>
          <h1 className="text-[19px] leading-snug font-bold break-all">{edit.name}</h1>
          <StateMark edit={edit} />
        </div>
        {edit.marked && (
          <Button onClick={() => marks.mutate({ addresses: [edit.address], mark: null })}>
            Take the test colours back
          </Button>
        )}
        {edit.state === "ready" && !edit.built && <BuildHint project={project} />}
        <div className="grid gap-2 rounded-xl bg-raised p-3.5">
          <p className="text-[14.5px] text-quiet">
            {hasEdit
              ? "Save this file again and it comes back by itself:"
              : "Open this file in your editor and save it; it comes back by itself:"}
          </p>
          <Copyable value={edit.file} className="text-[14.5px]" />
          {edit.fault && (
            <p className="rounded-lg bg-rust-soft p-2.5">{edit.fault} The version before stays in use.</p>
          )}
          <div className="flex flex-wrap gap-2">
            <a
              href={`/api/projects/${project}/edits/file?${new URLSearchParams({ address: edit.address })}`}
              download
              className="inline-flex items-center gap-2 rounded-lg bg-sunk px-3.5 py-1.5 hover:bg-line"
            >
              <Download aria-hidden className="size-4" /> Download
            </a>
            <Button onClick={() => chooser.current?.click()} disabled={upload.isPending}>
              <Upload aria-hidden className="size-4" /> Bring a file
            </Button>
            <input
              ref={chooser}
              type="file"
              className="sr-only"
              tabIndex={-1}
              aria-label="A file for this item"
              accept={[...(kind?.suffixes ?? []), ...(kind?.own_files ? [endingOf(edit.name)] : [])].join(
                ",",
              )}
              onChange={(event) => {
                take(event.target.files);
                event.target.value = "";
              }}
            />
          </div>
          <p className="text-[13.5px] text-quiet">Or drop a file anywhere on this page.</p>
        </div>
        {hasEdit && <Findings project={project} edit={edit} />}
        {hasEdit && <Sheet edit={edit} />}
        <Copies project={project} edit={edit} />
        <div>
          <NewItem project={project} address={edit.address} name={edit.name} />
        </div>
        {face.Forms && (
          <Suspense>
            <face.Forms
              project={project}
              edit={edit}
              onSpot={(place) => setSpot({ ...place, at: Date.now() })}
            />
          </Suspense>
        )}
        {edit.steps.length > 0 && (
          <div>
            <div className="mb-1 flex items-center gap-2">
              <h2 className="flex-1 font-bold">Versions</h2>
              <Button
                aria-label="Undo (Ctrl+Z)"
                title="Undo (Ctrl+Z)"
                disabled={edit.position === 0}
                onClick={() => step(edit.position - 1)}
              >
                <Undo2 className="size-4" />
              </Button>
              <Button
                aria-label="Redo (Ctrl+Y)"
                title="Redo (Ctrl+Y)"
                disabled={edit.position === edit.steps.length}
                onClick={() => step(edit.position + 1)}
              >
                <Redo2 className="size-4" />
              </Button>
            </div>
            <ol className="grid">
              <Version number={0} words="the original" on={edit.position === 0} onClick={() => step(0)} />
              {edit.steps.map((one) => (
                <Version
                  key={one.number}
                  number={one.number}
                  words={one.what === "file came back" ? `${one.file_name} came back` : one.what}
                  on={edit.position === one.number}
                  onClick={() => step(one.number)}
                />
              ))}
            </ol>
          </div>
        )}
        <Button
          look="quiet"
          className="self-start"
          onClick={() => takeOut.mutate(edit.address, { onSuccess: () => navigate(`/p/${project}/edit`) })}
        >
          Stop editing this (every version is kept)
        </Button>
      </aside>
    </section>
  );
}

function Version({
  number,
  words,
  on,
  onClick,
}: {
  number: number;
  words: string;
  on: boolean;
  onClick: () => void;
}) {
  return (
    <li>
      <button
        type="button"
        aria-current={on}
        onClick={onClick}
        className={`flex w-full gap-3 rounded px-2 py-1 text-left hover:bg-sunk ${on ? "bg-heather-soft font-bold" : ""}`}
      >
        <span className="w-5 text-right text-quiet tabular-nums">{number}</span>
        <span className="min-w-0 break-words">{words}</span>
      </button>
    </li>
  );
}

function BuildHint({ project }: { project: string }) {
  const { data } = useProject(project);
  if (!data?.counts.ready) return null;
  return (
    <Link
      to={`/p/${project}/build`}
      className="rounded-lg bg-gorse px-4 py-2 text-center font-bold text-gorse-ink"
    >
      Build {data.counts.ready === 1 ? "this edit" : `${data.counts.ready} edits`} into the game
    </Link>
  );
}
