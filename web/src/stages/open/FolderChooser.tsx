import { useQuery } from "@tanstack/react-query";
import { ArrowUp, Clock, File, FileArchive, Folder, HardDrive } from "lucide-react";
import { Dialog } from "radix-ui";
import { type ReactNode, useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { useOpenGame } from "../../api/queries";
import { Button } from "../../components/controls";
import { baseName, count, rounded } from "../../lib/format";
import { type Dropped, useDrop } from "./drop";

/** Chooses a folder or a file of this computer. */
export function FolderChooser({ children }: { children: ReactNode }) {
  const [shown, setShown] = useState(false);
  const [path, setPath] = useState<string | undefined>(undefined);
  const [typed, setTyped] = useState<string | null>(null);
  const [hint, setHint] = useState("");
  const navigate = useNavigate();
  const open = useOpenGame((project) => navigate(`/p/${project}/find`, { state: { fresh: true } }));
  const [last, setLast] = useState<Schemas["Folder"] | undefined>(undefined);
  const {
    data: found,
    error,
    isPlaceholderData,
  } = useQuery({
    queryKey: ["browse", path],
    queryFn: () => take(client.GET("/api/browse", { params: { query: { path } } })),
    enabled: shown,
    placeholderData: (before) => before,
  });
  useEffect(() => {
    if (found) setLast(found);
  }, [found]);
  // Where a path leads nowhere, what was shown before stays, so that one can go on from there.
  const data = found ?? last;
  const choose = (chosen: string) => open.mutate(chosen, { onSuccess: () => setShown(false) });
  const go = (next: string) => {
    setPath(next);
    setTyped(null);
    setHint("");
  };
  const drop = useDrop((dropped) => {
    const found = dropped.path ?? lyingHere(data, dropped);
    if (found) go(found);
    else setHint(`The browser does not say where ${dropped.name} lies. Go to its folder, or paste its path.`);
  });
  const entries = (data?.folders.length ?? 0) + (data?.files.length ?? 0);
  return (
    <Dialog.Root open={shown} onOpenChange={setShown}>
      <Dialog.Trigger asChild>{children}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/50" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-[8vh] left-1/2 flex max-h-[84vh] w-[820px] max-w-[94vw] -translate-x-1/2 flex-col gap-3 rounded-2xl bg-raised p-5 shadow-2xl"
          {...drop}
        >
          <Dialog.Title className="text-[20px] font-bold">Which game?</Dialog.Title>
          <form
            className="flex gap-2"
            onSubmit={(event) => {
              event.preventDefault();
              if (typed) go(typed);
            }}
          >
            <input
              aria-label="Folder or file"
              placeholder="Paste a path here"
              className="min-w-0 flex-1 rounded-lg border border-line bg-paper px-3 py-1.5"
              value={typed ?? data?.path ?? ""}
              onChange={(event) => setTyped(event.target.value)}
              spellCheck={false}
            />
            <Button type="submit" disabled={!typed}>
              Go there
            </Button>
          </form>
          {(error || hint) && (
            <p className="rounded-lg bg-rust-soft px-3 py-2" role="status">
              {error?.message ?? hint}
            </p>
          )}
          <div className="flex min-h-0 flex-1 gap-3">
            <nav className="w-44 shrink-0 overflow-auto" aria-label="Places">
              <Places icon={Clock} title="Opened before" places={data?.recent} onGo={go} />
              <Places icon={HardDrive} title="Places" places={data?.places} onGo={go} />
            </nav>
            <ul
              className="min-h-40 min-w-0 flex-1 overflow-auto rounded-lg bg-paper p-1"
              aria-label="What lies here"
            >
              {data?.parent && (
                <Entry
                  icon={ArrowUp}
                  name="the folder above"
                  onClick={() => data.parent && go(data.parent)}
                />
              )}
              {data?.folders.map((entry) => (
                <Entry key={entry.path} icon={Folder} name={entry.name} onClick={() => go(entry.path)} />
              ))}
              {data?.files.map((entry) => (
                <Entry
                  key={entry.path}
                  icon={entry.archive ? FileArchive : File}
                  name={entry.name}
                  seems={entry.seems}
                  size={entry.size}
                  marked={entry.path === data.file}
                  onClick={() => choose(entry.path)}
                />
              ))}
              {data && entries === 0 && <li className="p-3 text-quiet">This folder is empty.</li>}
              {data && data.left_out > 0 && (
                <li className="p-3 text-quiet">and {count(data.left_out)} more; paste the path of one</li>
              )}
            </ul>
          </div>
          <div className="flex flex-wrap items-center justify-end gap-2">
            <span className="flex-1 text-quiet">
              A file opens by itself; a folder with all that is in it.
            </span>
            <Dialog.Close asChild>
              <Button>Not now</Button>
            </Dialog.Close>
            {data?.file && !isPlaceholderData && typed === null ? (
              <Button look="act" disabled={open.isPending} onClick={() => data.file && choose(data.file)}>
                Open {baseName(data.file)}
              </Button>
            ) : (
              <Button
                look="act"
                disabled={!data || open.isPending}
                // What was asked for, also where it has not been shown yet.
                onClick={() => data && choose(typed ?? path ?? data.path)}
              >
                Open this folder as a game
              </Button>
            )}
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** A dropped file whose place the browser keeps to itself, if it lies in the folder that is shown. */
function lyingHere(here: Schemas["Folder"] | undefined, dropped: Dropped): string | undefined {
  const found =
    here?.files.find(({ name, size }) => name === dropped.name && size === dropped.size) ??
    here?.folders.find(({ name }) => name === dropped.name);
  return found?.path;
}

function Places({
  icon: Icon,
  title,
  places,
  onGo,
}: {
  icon: typeof Folder;
  title: string;
  places: Schemas["FolderEntry"][] | undefined;
  onGo: (path: string) => void;
}) {
  if (!places?.length) return null;
  return (
    <section className="mb-3">
      <h3 className="px-2 text-[14px] text-quiet">{title}</h3>
      <ul>
        {places.map((place) => (
          <li key={place.path}>
            <button
              type="button"
              title={place.path}
              onClick={() => onGo(place.path)}
              className="flex w-full items-center gap-2 rounded-md px-2 py-1 text-left hover:bg-heather-soft"
            >
              <Icon aria-hidden className="size-4 shrink-0 text-quiet" />
              <span className="truncate">{place.name}</span>
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Entry({
  icon: Icon,
  name,
  seems,
  size,
  marked = false,
  onClick,
}: {
  icon: typeof Folder;
  name: string;
  seems?: string | null;
  size?: number;
  marked?: boolean;
  onClick: () => void;
}) {
  return (
    <li>
      <button
        type="button"
        onClick={onClick}
        aria-current={marked || undefined}
        className="flex w-full items-center gap-3 rounded-md px-3 py-1.5 text-left hover:bg-heather-soft aria-[current]:bg-heather-soft"
      >
        <Icon aria-hidden className="size-4 shrink-0 text-quiet" />
        <span className="min-w-0 flex-1 truncate" title={name}>
          {name}
        </span>
        {seems && <span className="max-w-52 truncate text-quiet">{seems}</span>}
        {size !== undefined && (
          <span className="w-20 text-right text-quiet tabular-nums">{rounded(size)}</span>
        )}
      </button>
    </li>
  );
}
