import { Waypoints, X } from "lucide-react";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { useItem, useLinks } from "../../api/queries";
import { useKind } from "../../assets/kinds";
import { faceOf, iconOf } from "../../assets/registry";
import { Button } from "../../components/controls";
import { baseName, count } from "../../lib/format";

/** pixels of a picture, from one item to the next below it, and between the columns; items of a column at most */
const SIDE = 72;
const STEP = 104;
const ACROSS = 250;
const MOST = 8;

/** What belongs to an item, drawn: what uses it on the left, what it uses on the right; each leads on to its own. */
export function Together({
  project,
  address,
  opened,
  onGo,
}: {
  project: string;
  address: string;
  opened: string;
  onGo: (address: string) => void;
}) {
  const { data } = useLinks(project, address);
  const [way, setWay] = useState<string[] | null>(null);
  if (!data || data.needs.length + data.used_by.length === 0) return null;
  const here = way?.at(-1) ?? address;
  return (
    <Dialog.Root open={way !== null} onOpenChange={(open) => setWay(open ? [address] : null)}>
      <Dialog.Trigger asChild>
        <Button>
          <Waypoints aria-hidden className="size-4" /> What belongs together
        </Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-1/2 left-1/2 z-30 grid max-h-[92vh] max-w-[96vw] -translate-x-1/2 -translate-y-1/2 gap-3 overflow-auto rounded-2xl bg-paper p-5 shadow-xl"
        >
          <div className="flex items-center gap-3">
            <Dialog.Title className="text-[18px] font-bold">What belongs together</Dialog.Title>
            <span className="flex-1" />
            <Button
              disabled={(way?.length ?? 0) < 2}
              onClick={() => setWay((now) => now?.slice(0, -1) ?? null)}
            >
              Back
            </Button>
            <Button
              look="act"
              onClick={() => {
                setWay(null);
                onGo(here);
              }}
            >
              Go to it
            </Button>
            <Dialog.Close
              aria-label="Close"
              className="rounded-md p-1 text-quiet hover:bg-sunk hover:text-ink"
            >
              <X aria-hidden className="size-5" />
            </Dialog.Close>
          </div>
          <Around
            project={project}
            address={here}
            opened={opened}
            onWalk={(next) => setWay((now) => [...(now ?? []), next])}
          />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** One item between what uses it and what it uses. */
function Around({
  project,
  address,
  opened,
  onWalk,
}: {
  project: string;
  address: string;
  opened: string;
  onWalk: (address: string) => void;
}) {
  const { data } = useLinks(project, address);
  const once = (some: string[]) => [...new Set(some)];
  const left = once(data?.used_by.map(({ owner }) => owner) ?? []);
  const right = once(data?.needs.map(({ target }) => target) ?? []);
  const rows = Math.max(1, Math.min(MOST, Math.max(left.length, right.length)));
  const height = rows * STEP;
  const yOf = (place: number, all: number) => height / 2 + (place - (Math.min(all, MOST) - 1) / 2) * STEP;
  const columns = [
    { title: "Used by", at: 0, items: left },
    { title: "", at: 1, items: [address] },
    { title: "Uses", at: 2, items: right },
  ];
  const width = 2 * ACROSS + 190;
  return (
    <div className="grid gap-1">
      <div className="flex justify-between text-quiet" style={{ width }}>
        <span>Used by {left.length > 0 && count(left.length)}</span>
        <span>Uses {right.length > 0 && count(right.length)}</span>
      </div>
      <div className="relative" style={{ width, height }}>
        <svg className="absolute inset-0" width={width} height={height} aria-hidden="true">
          {columns.map(({ at, items }) =>
            at === 1
              ? null
              : items.slice(0, MOST).map((one, place) => {
                  const y = yOf(place, items.length) - 14;
                  const from = at === 0 ? 95 : ACROSS + 95;
                  const [a, b] = at === 0 ? [y, height / 2 - 14] : [height / 2 - 14, y];
                  return (
                    <path
                      key={one}
                      d={`M ${from} ${a} C ${from + ACROSS / 2} ${a} ${from + ACROSS / 2} ${b} ${from + ACROSS} ${b}`}
                      fill="none"
                      strokeWidth={2}
                      className="stroke-line"
                    />
                  );
                }),
          )}
        </svg>
        {columns.map(({ at, items }) =>
          items
            .slice(0, MOST)
            .map((one, place) => (
              <Node
                key={`${at} ${one}`}
                project={project}
                address={one}
                opened={opened}
                here={at === 1}
                style={{ left: at * ACROSS, top: yOf(place, items.length) - STEP / 2, width: 190 }}
                onWalk={() => onWalk(one)}
              />
            )),
        )}
      </div>
      {Math.max(left.length, right.length) > MOST && (
        <p className="text-quiet">
          The first {MOST} of each side are drawn; the lists beside the item have more.
        </p>
      )}
    </div>
  );
}

function Node({
  project,
  address,
  opened,
  here,
  style,
  onWalk,
}: {
  project: string;
  address: string;
  opened: string;
  here: boolean;
  style: React.CSSProperties;
  onWalk: () => void;
}) {
  const member = useItem(project, address).data?.member;
  const face = faceOf(member?.kind ?? "");
  const kind = useKind(member?.kind ?? "");
  const Icon = member ? iconOf(face, member) : face.icon;
  const name = baseName(member?.name ?? decodeURIComponent(address.split("//").pop() ?? ""));
  return (
    <button
      type="button"
      className="absolute grid justify-items-center gap-0.5 rounded-lg p-0.5 text-center disabled:cursor-default"
      style={style}
      title={address}
      disabled={here}
      onClick={onWalk}
    >
      <span
        className={`ground grid place-items-center overflow-hidden rounded-lg p-1 ${here ? "ring-[3px] ring-heather" : "ring-1 ring-line"}`}
        style={{ width: SIDE, height: SIDE }}
      >
        {member && kind && !member.fault ? (
          <face.Tile project={project} member={member} side={SIDE} opened={opened} />
        ) : (
          <Icon aria-hidden className="size-7 text-[#161616]" strokeWidth={1.3} />
        )}
      </span>
      <span className={`w-full truncate text-[13.5px] ${here ? "font-bold" : ""}`}>{name}</span>
    </button>
  );
}
