import { useQuery } from "@tanstack/react-query";
import { Archive, ArrowUp, Folder } from "lucide-react";
import { Dialog } from "radix-ui";
import { type ReactNode, useState } from "react";
import { useNavigate } from "react-router";
import { client, take } from "../../api/client";
import { useOpenGame } from "../../api/queries";
import { Button } from "../../components/controls";

/** Chooses a folder or an archive of this computer. */
export function FolderChooser({ children }: { children: ReactNode }) {
  const [shown, setShown] = useState(false);
  const [path, setPath] = useState<string | undefined>(undefined);
  const [typed, setTyped] = useState<string | null>(null);
  const navigate = useNavigate();
  const open = useOpenGame((project) => navigate(`/p/${project}/find`));
  const { data, error } = useQuery({
    queryKey: ["browse", path],
    queryFn: () => take(client.GET("/api/browse", { params: { query: { path } } })),
    enabled: shown,
  });
  const choose = (chosen: string) => open.mutate(chosen, { onSuccess: () => setShown(false) });
  const go = (next: string) => {
    setPath(next);
    setTyped(null);
  };
  return (
    <Dialog.Root open={shown} onOpenChange={setShown}>
      <Dialog.Trigger asChild>{children}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/50" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-[10vh] left-1/2 flex max-h-[80vh] w-[640px] -translate-x-1/2 flex-col gap-3 rounded-2xl bg-raised p-5 shadow-2xl"
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
              aria-label="Folder"
              className="min-w-0 flex-1 rounded-lg border border-line bg-paper px-3 py-1.5"
              value={typed ?? data?.path ?? ""}
              onChange={(event) => setTyped(event.target.value)}
              spellCheck={false}
            />
            <Button type="submit" disabled={!typed}>
              Go there
            </Button>
          </form>
          {error && <p className="rounded-lg bg-rust-soft px-3 py-2">{error.message}</p>}
          <ul className="min-h-40 flex-1 overflow-auto rounded-lg bg-paper p-1">
            {data?.parent && (
              <Entry icon={ArrowUp} name="the folder above" onClick={() => data.parent && go(data.parent)} />
            )}
            {data?.archives.map((entry) => (
              <Entry
                key={entry.path}
                icon={Archive}
                name={entry.name}
                more={entry.layout}
                onClick={() => choose(entry.path)}
              />
            ))}
            {data?.folders.map((entry) => (
              <Entry key={entry.path} icon={Folder} name={entry.name} onClick={() => go(entry.path)} />
            ))}
            {data && data.folders.length + data.archives.length === 0 && (
              <li className="p-3 text-quiet">No folders and no known archives here.</li>
            )}
          </ul>
          <div className="flex justify-end gap-2">
            <Dialog.Close asChild>
              <Button>Not now</Button>
            </Dialog.Close>
            <Button look="act" disabled={!data || open.isPending} onClick={() => data && choose(data.path)}>
              Open this folder as a game
            </Button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Entry({
  icon: Icon,
  name,
  more,
  onClick,
}: {
  icon: typeof Folder;
  name: string;
  more?: string | null;
  onClick: () => void;
}) {
  return (
    <li>
      <button
        type="button"
        onClick={onClick}
        className="flex w-full items-center gap-3 rounded-md px-3 py-1.5 text-left hover:bg-heather-soft"
      >
        <Icon aria-hidden className="size-4 text-quiet" /> <span className="truncate">{name}</span>
        {more && <span className="text-quiet">{more}</span>}
      </button>
    </li>
  );
}
