/** What the game's own screens do and where they lead, to be chosen by a picture of one that does. */
import { useQuery } from "@tanstack/react-query";
import { Images } from "lucide-react";
import { Popover } from "radix-ui";
import { useState } from "react";
import { client, previewUrl, take } from "../../api/client";
import { many } from "../../lib/format";

type Sort = "actions" | "targets";
const TITLES: Record<Sort, string> = {
  actions: "What this game's screens do",
  targets: "Where this game's screens lead",
};

/** A button that opens them; the numbers that begin with the digits that are typed. */
export function Known({
  project,
  address,
  sort,
  value,
  onChoose,
}: {
  project: string;
  address: string;
  sort: Sort;
  value: number;
  onChoose: (number: number) => void;
}) {
  const [open, setOpen] = useState(false);
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger
        aria-label={TITLES[sort]}
        title={TITLES[sort]}
        className="rounded-lg bg-sunk p-2 text-ink hover:bg-line"
      >
        <Images aria-hidden className="size-4" />
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          side="top"
          align="start"
          sideOffset={6}
          collisionPadding={12}
          aria-label={TITLES[sort]}
          className="z-20 grid max-h-[70vh] w-[480px] max-w-[92vw] gap-2 overflow-auto rounded-xl border border-line bg-raised p-3 shadow-lg"
        >
          <Choices
            project={project}
            address={address}
            sort={sort}
            value={value}
            onChoose={(number) => {
              setOpen(false);
              onChoose(number);
            }}
          />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function Choices({ project, address, sort, value, onChoose }: Parameters<typeof Known>[0]) {
  const [starts, setStarts] = useState("");
  const { data } = useQuery({
    queryKey: ["learnt", project, address, starts],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/screen/learnt", {
          params: { path: { project_id: project }, query: { address, starts } },
        }),
      ),
    placeholderData: (before) => before,
    staleTime: 60_000,
  });
  const found = data?.[sort];
  return (
    <>
      <div className="flex items-center gap-3">
        <b className="flex-1">{TITLES[sort]}</b>
        {sort === "targets" && (
          <input
            value={starts}
            onChange={({ target }) => setStarts(target.value.replace(/\D/g, ""))}
            aria-label="Numbers that begin with"
            placeholder="begins with"
            inputMode="numeric"
            className="w-32 rounded-lg bg-sunk px-2 py-1 tabular-nums"
          />
        )}
      </div>
      <ul className="grid grid-cols-4 gap-2">
        {found?.map((one) => (
          <li key={one.number}>
            <button
              type="button"
              aria-pressed={one.number === value}
              onClick={() => onChoose(one.number)}
              className={`grid w-full gap-1 rounded-lg p-1.5 text-left hover:bg-sunk ${one.number === value ? "bg-heather-soft" : ""}`}
            >
              <span className="grid aspect-[3/2] place-items-center overflow-hidden rounded bg-sunk">
                {one.example && (
                  <img
                    alt=""
                    loading="lazy"
                    className="pixelated size-full object-contain"
                    src={previewUrl(project, one.example, { channels: "rgb", fit: 128 })}
                  />
                )}
              </span>
              <b className="truncate text-[14px]" title={one.words || undefined}>
                {one.words || one.number}
              </b>
              <span className="text-[13px] text-quiet">
                {one.screens ? `in ${many(one.screens, "screen")}` : "in none yet"}
              </span>
            </button>
          </li>
        ))}
      </ul>
      {found?.length === 0 && <p className="text-quiet">No screen has such a number.</p>}
    </>
  );
}
