import { FolderDown, FolderInput, FolderOutput } from "lucide-react";
import { Dialog } from "radix-ui";
import { useId, useState } from "react";
import type { Job } from "../../api/client";
import { useExport, useImport, useJobs, useServer } from "../../api/queries";
import { Button, Copyable } from "../../components/controls";
import { count, isActive, many, progress } from "../../lib/format";
import type { Search } from "./useCatalogue";

const MOST = 3;

/** Many items at once: to a folder of open files, and such a folder taken back. */
export function Folders({
  project,
  search,
  total,
  chosen,
  choose,
}: {
  project: string;
  search: Search;
  total: number;
  /** how many are chosen; 0 where all of the search is meant */
  chosen: number;
  choose: () => Promise<string[]>;
}) {
  const [shown, setShown] = useState(false);
  const home = useServer().data?.user_folder ?? "";
  const [typed, setTyped] = useState<string | null>(null);
  const folder = typed ?? `${home}/Brae/${project}`;
  const send = useExport(project);
  const take = useImport(project);
  const { data: jobs = [] } = useJobs();
  const own = jobs.filter((job) => job.project_id === project && ["export", "import"].includes(job.kind));
  const field = useId();
  const what = chosen ? `the ${many(chosen, "chosen item")}` : `all ${many(total, "item")} here`;
  return (
    <Dialog.Root open={shown} onOpenChange={setShown}>
      <Dialog.Trigger asChild>
        <Button
          aria-label="Folder…"
          title="Send many items to a folder at once, and take such a folder back"
          className="px-2.5"
        >
          <FolderDown aria-hidden className="size-4" />
        </Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed top-[8vh] left-1/2 z-20 flex max-h-[84vh] w-[640px] max-w-[94vw] -translate-x-1/2 flex-col gap-4 overflow-auto rounded-2xl bg-raised p-5 shadow-2xl">
          <Dialog.Title className="text-[20px] font-bold">Many items at once</Dialog.Title>
          <Dialog.Description className="text-quiet">
            Items go to a folder as pictures, texts and sounds that any program opens; paths are as in the
            game. Change what you like there, then take the folder back: each changed file becomes an edit.
            The game itself is not touched.
          </Dialog.Description>
          <div className="grid gap-1">
            <label htmlFor={field} className="font-bold">
              Folder
            </label>
            <input
              id={field}
              className="rounded-lg border border-line bg-paper px-3 py-1.5"
              value={folder}
              spellCheck={false}
              onChange={(event) => setTyped(event.target.value)}
            />
          </div>
          <div className="flex flex-wrap gap-2">
            <Button
              look="act"
              disabled={send.isPending || folder === ""}
              onClick={async () => send.mutate({ folder, search, addresses: chosen ? await choose() : [] })}
            >
              <FolderOutput aria-hidden className="size-4" /> Send {what}
            </Button>
            <Button disabled={take.isPending || folder === ""} onClick={() => take.mutate(folder)}>
              <FolderInput aria-hidden className="size-4" /> Take the folder back
            </Button>
          </div>
          {own.length > 0 && (
            <ul className="grid gap-2" aria-label="What was sent and taken">
              {own.slice(0, MOST).map((job) => (
                <Outcome key={job.id} job={job} />
              ))}
            </ul>
          )}
          <Dialog.Close asChild>
            <Button className="justify-self-start self-start">Close</Button>
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

type Fault = { address?: string; message: string };
type Result = {
  folder: string;
  written?: number;
  there?: number;
  left_out?: number;
  changed?: string[];
  taken?: string[];
  same?: number;
  untouched?: number;
  strangers?: string[];
  missing?: string[];
  faults: Fault[];
};

/** How one of them ended, with all that needs a look. */
function Outcome({ job }: { job: Job }) {
  const result = job.result as Result | null;
  return (
    <li className="rounded-lg bg-paper p-3">
      <b>{job.title}</b>
      {isActive(job) ? (
        <>
          <progress
            className="progress w-full"
            max={job.total || 1}
            value={job.total ? job.done : undefined}
          />
          <p className="text-[14px] text-quiet">{progress(job)}</p>
        </>
      ) : result ? (
        <div className="grid gap-1 text-[14px]">
          <p>{job.kind === "export" ? sentWords(result) : takenWords(result)}</p>
          <Copyable value={result.folder} className="text-quiet" />
          <Names words="You changed these, so they were left alone" names={result.changed} />
          <Names words="These files belong to no item of the game" names={result.strangers} />
          <Names words="These were sent and are missing now" names={result.missing} />
          <Names
            words="These could not be used"
            names={result.faults.map((fault) => `${fault.address ?? ""}: ${fault.message}`)}
          />
        </div>
      ) : (
        <p className="text-[14px] text-quiet">
          {job.state === "cancelled"
            ? "Cancelled; send it again to go on."
            : (job.error?.message ?? job.state)}
        </p>
      )}
    </li>
  );
}

function sentWords(result: Result): string {
  const words = [`${many(result.written ?? 0, "file")} written`];
  if (result.there) words.push(`${count(result.there)} there already`);
  if (result.left_out) words.push(`${count(result.left_out)} of kinds that no open file is made of`);
  return words.join(", ");
}

function takenWords(result: Result): string {
  const words = [`${many(result.taken?.length ?? 0, "file")} taken`];
  if (result.untouched) words.push(`${count(result.untouched)} untouched`);
  if (result.same) words.push(`${count(result.same)} equal to the original`);
  return words.join(", ");
}

function Names({ words, names }: { words: string; names: string[] | undefined }) {
  if (!names?.length) return null;
  return (
    <details>
      <summary className="cursor-pointer text-rust">
        {words}: {count(names.length)}
      </summary>
      <ul className="max-h-40 overflow-auto pl-4">
        {names.map((name) => (
          <li key={name} className="break-all">
            {name}
          </li>
        ))}
      </ul>
    </details>
  );
}
