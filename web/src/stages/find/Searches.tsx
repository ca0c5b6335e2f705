import { useMutation, useQueryClient } from "@tanstack/react-query";
import { BookmarkPlus, ChevronDown, X } from "lucide-react";
import { Popover } from "radix-ui";
import { client, take } from "../../api/client";
import { showProblem, useProject } from "../../api/queries";
import type { Search } from "./useCatalogue";

/** What can be asked, each with an example; pressing one puts it into the field. */
const EXAMPLES: [string, string][] = [
  ["boat sail", "both in the path; a word that is nowhere is read as the nearest one"],
  ['"old harbour" -sketch', "with the space in it; not with that"],
  ["kind:texture width:>=512", "conditions on what is known of an item"],
  ["size:>1M rate:8000..22050", "bytes, and ranges of numbers"],
  ["archive:harbour", "only in archives that are called so"],
  ['text:"the lamp"', "words in one line of a text"],
  ["uses:sail used-by:keeper", "what names it, and what it names"],
  ["missing:yes", "what names something that is not there"],
  ['holds:"52 49 ?? 46"', "these bytes, a text or u32:4096, packed or not"],
  ["edited:yes", "what you are editing"],
  ["finding:yes", "edits with a finding that stands"],
  ["/stamp_0[1-4]/", "a regular expression on the path"],
];

/** The searches that are kept, and how to ask. */
export function Searches({
  project,
  search,
  onChange,
}: {
  project: string;
  search: Search;
  onChange: (part: Partial<Search>) => void;
}) {
  const kept = useProject(project).data?.searches ?? [];
  const queries = useQueryClient();
  const keep = useMutation({
    mutationFn: (body: { query: string; kept: boolean }) =>
      take(
        client.PUT("/api/projects/{project_id}/searches", {
          params: { path: { project_id: project } },
          body,
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["project", project] }),
    onError: showProblem,
  });
  const now = asQuery(search);
  return (
    <Popover.Root>
      <Popover.Trigger
        className="grid size-7 shrink-0 place-items-center rounded-md text-quiet hover:bg-sunk hover:text-ink"
        aria-label="Kept searches, and what can be asked"
        title="Kept searches, and what can be asked"
      >
        <ChevronDown aria-hidden className="size-4" />
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={8}
          collisionPadding={12}
          className="z-20 grid max-h-[75vh] w-100 gap-3 overflow-auto rounded-xl border border-line bg-raised p-3 shadow-lg"
        >
          <section className="grid gap-1">
            <h3 className="font-bold">Kept searches</h3>
            {kept.map((query) => (
              <div key={query} className="flex items-center">
                <Popover.Close
                  className="min-w-0 grow truncate rounded-md px-2 py-1 text-left hover:bg-sunk"
                  onClick={() => onChange(fromQuery(query))}
                >
                  {inWords(query)}
                </Popover.Close>
                <button
                  type="button"
                  className="grid size-7 shrink-0 place-items-center rounded-md text-quiet hover:bg-sunk"
                  aria-label={`Keep no longer: ${inWords(query)}`}
                  title="Keep it no longer"
                  onClick={() => keep.mutate({ query, kept: false })}
                >
                  <X aria-hidden className="size-4" />
                </button>
              </div>
            ))}
            {now !== "" && !kept.includes(now) ? (
              <button
                type="button"
                className="flex items-center gap-2 rounded-md bg-sunk px-2 py-1 text-left hover:bg-line"
                onClick={() => keep.mutate({ query: now, kept: true })}
              >
                <BookmarkPlus aria-hidden className="size-4 shrink-0" />
                <span className="truncate">Keep this one: {inWords(now)}</span>
              </button>
            ) : (
              kept.length === 0 && <p className="text-quiet">Search for something, and keep it here.</p>
            )}
          </section>
          <section className="grid gap-1">
            <h3 className="font-bold">What can be asked</h3>
            {EXAMPLES.map(([example, words]) => (
              <Popover.Close
                key={example}
                className="grid rounded-md px-2 py-1 text-left hover:bg-sunk"
                onClick={() => onChange({ q: example })}
              >
                <code className="text-[14px]">{example}</code>
                <span className="text-[13.5px] text-quiet">{words}</span>
              </Popover.Close>
            ))}
          </section>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

/** A search as it is kept; "" where it leaves nothing out. A picture that is looked for is forgotten with Brae. */
export function asQuery(search: Search): string {
  const query = new URLSearchParams();
  if (search.q.trim()) query.set("q", search.q.trim());
  for (const one of search.where) query.append("where", one);
  if (search.folder !== null) query.set("folder", search.folder);
  if (search.in_work) query.set("in_work", "true");
  return query.toString();
}

export function fromQuery(text: string): Partial<Search> {
  const query = new URLSearchParams(text);
  return {
    q: query.get("q") ?? "",
    where: query.getAll("where"),
    folder: query.get("folder"),
    in_work: query.get("in_work") === "true",
    like: "",
  };
}

export function inWords(text: string): string {
  const { q, where, folder, in_work } = fromQuery(text);
  const parts = [q, ...(where ?? []), folder ? `in ${folder}` : "", in_work ? "being edited" : ""];
  return parts.filter(Boolean).join(", ");
}

/** The words that a search wants in one line of a text. */
export const textOf = (q: string): string => conditionOn("text", q);

/** The bytes that a search wants. */
export const bytesOf = (q: string): string => conditionOn("holds", q);

function conditionOn(name: string, q: string): string {
  const found = new RegExp(`(?:^|\\s)${name}:(?:"([^"]*)"|(\\S+))`).exec(q);
  return found?.[1] ?? found?.[2] ?? "";
}
