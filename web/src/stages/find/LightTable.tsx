import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useLayoutEffect, useRef, useState } from "react";
import type { Member } from "../../api/client";
import { useKind, useKinds } from "../../assets/kinds";
import { canEdit, type Face, faceOf, iconOf } from "../../assets/registry";
import { baseName, count, rounded } from "../../lib/format";
import { columnsFor, move } from "../../lib/grid";
import type { useCatalogue } from "./useCatalogue";

export type TableView = "pictures" | "list";
const GAP = 12;
const CAPTION = 44;
const PADDING = 16;
const LIST_ROW = 52;

type Props = {
  project: string;
  view: TableView;
  tile: number;
  catalogue: ReturnType<typeof useCatalogue>;
  focused: number;
  onFocus: (index: number) => void;
  chosen: Set<string>;
  onChoose: (chosen: Set<string>) => void;
  onOpen: (member: Member | undefined) => void;
  /** when the game was opened: pictures are kept by the browser until it is opened again */
  opened: string;
};

/** Thousands of items, only those in sight drawn; arrow keys move, Enter opens, Space chooses. */
export function LightTable({
  project,
  view,
  tile,
  catalogue,
  focused,
  onFocus,
  chosen,
  onChoose,
  onOpen,
  opened,
}: Props) {
  const frame = useRef<HTMLDivElement>(null);
  const kinds = useKinds().data?.kinds;
  const [width, setWidth] = useState(800);
  useLayoutEffect(() => {
    const element = frame.current;
    if (!element) return;
    const observer = new ResizeObserver(() => setWidth(element.clientWidth - 2 * PADDING));
    observer.observe(element);
    return () => observer.disconnect();
  }, []);
  const columns = view === "list" ? 1 : columnsFor(width, tile, GAP);
  const side = view === "list" ? LIST_ROW : Math.floor((width - (columns - 1) * GAP) / columns);
  const height = view === "list" ? LIST_ROW : side + CAPTION + GAP;
  const rows = useVirtualizer({
    count: Math.ceil(catalogue.total / columns),
    getScrollElement: () => frame.current,
    estimateSize: () => height,
    overscan: 3,
    paddingStart: 2,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: rows must be measured anew when their height changes
  useEffect(() => rows.measure(), [height]);
  const visible = rows.getVirtualItems();
  const first = (visible[0]?.index ?? 0) * columns;
  const last = Math.min(((visible.at(-1)?.index ?? 0) + 1) * columns, catalogue.total) - 1;
  const { need } = catalogue;
  useEffect(() => {
    if (last >= first) need(first, last);
  }, [need, first, last]);

  const onKeyDown = (event: React.KeyboardEvent) => {
    const page = Math.max(1, Math.floor((frame.current?.clientHeight ?? height) / height));
    const next = move(event.key, focused, columns, catalogue.total, page);
    if (next !== null) {
      onFocus(next);
      rows.scrollToIndex(Math.floor(next / columns));
    } else if (event.key === "Enter") onOpen(catalogue.at(focused));
    else if (event.key === " ") toggle(catalogue.at(focused));
    else return;
    event.preventDefault();
  };
  const toggle = (member: Member | undefined) => {
    if (
      !member ||
      !canEdit(
        kinds?.find((kind) => kind.id === member.kind),
        member,
      )
    )
      return;
    const next = new Set(chosen);
    if (!next.delete(member.address)) next.add(member.address);
    onChoose(next);
  };

  return (
    <div
      ref={frame}
      role="listbox"
      tabIndex={0}
      aria-label="Items (arrow keys move, Enter edits, Space chooses several)"
      aria-multiselectable
      aria-activedescendant={catalogue.at(focused) ? `item-${focused}` : undefined}
      onKeyDown={onKeyDown}
      className="min-h-0 flex-1 overflow-auto px-4 focus-visible:outline-offset-[-3px]"
    >
      <div className="relative" style={{ height: rows.getTotalSize() }}>
        {visible.flatMap((row) =>
          Array.from({ length: columns }, (_, column) => {
            const index = row.index * columns + column;
            if (index >= catalogue.total) return null;
            const member = catalogue.at(index);
            const Item = view === "list" ? Line : Tile;
            return (
              <div
                key={index}
                id={`item-${index}`}
                role="option"
                aria-selected={index === focused}
                aria-label={member ? undefined : "loading"}
                tabIndex={-1}
                style={{
                  position: "absolute",
                  top: row.start,
                  left: column * (side + GAP),
                  width: view === "list" ? "100%" : side,
                  height: height - (view === "list" ? 4 : GAP),
                }}
                onMouseDown={(event) => {
                  onFocus(index);
                  if (event.ctrlKey || event.metaKey) toggle(member);
                }}
                onDoubleClick={() => onOpen(member)}
                className={`cursor-default rounded-lg ${index === focused ? "bg-heather-soft outline-[3px] outline-heather" : "hover:bg-sunk"} ${
                  member && chosen.has(member.address) ? "ring-4 ring-gorse" : ""
                }`}
              >
                {member && <Item project={project} member={member} side={side} opened={opened} />}
              </div>
            );
          }),
        )}
      </div>
    </div>
  );
}

type ItemProps = { project: string; member: Member; side: number; opened: string };

function Thumbnail({ project, member, side, opened, face }: ItemProps & { face: Face }) {
  if (useKind(member.kind) && !member.fault)
    return <face.Tile project={project} member={member} side={side} opened={opened} />;
  const Icon = iconOf(face, member);
  return <Icon aria-hidden className="size-1/3 text-[#161616]" strokeWidth={1.3} />;
}

function Tile({ project, member, side, opened }: ItemProps) {
  const face = faceOf(member.kind);
  const known = useKind(member.kind) !== undefined;
  return (
    <>
      <div
        className="ground relative grid place-items-center overflow-hidden rounded-lg p-1.5"
        style={{ height: side }}
      >
        <Thumbnail project={project} member={member} side={side} opened={opened} face={face} />
        {member.winner && (
          <span className="absolute bottom-1.5 left-1.5 rounded-full bg-paper px-2 text-[12.5px] text-ink">
            overridden
          </span>
        )}
        {member.edit && (
          <span className="absolute top-1.5 right-1.5 rounded-full bg-gorse px-2 text-[12.5px] font-bold text-gorse-ink">
            editing
          </span>
        )}
      </div>
      <div className="px-1 pt-0.5 leading-tight">
        <div className="truncate text-[14px]">{baseName(member.name)}</div>
        <div className="truncate text-[12.5px] text-quiet">{summary(face, known, member)}</div>
      </div>
    </>
  );
}

function Line({ project, member, opened }: ItemProps) {
  const face = faceOf(member.kind);
  const known = useKind(member.kind) !== undefined;
  return (
    <div className="flex h-full items-center gap-4 pr-3">
      <span className="ground grid size-12 shrink-0 place-items-center overflow-hidden rounded">
        <Thumbnail project={project} member={member} side={48} opened={opened} face={face} />
      </span>
      <span className="min-w-0 flex-1 truncate">{member.name}</span>
      {member.winner && <span className="text-quiet">overridden</span>}
      {member.edit && (
        <span className="rounded-full bg-gorse px-2 text-[13px] font-bold text-gorse-ink">editing</span>
      )}
      <span className="w-44 text-quiet">{summary(face, known, member)}</span>
      <span className="w-28 text-right tabular-nums" title={`${count(member.real)} bytes`}>
        {rounded(member.real)}
      </span>
    </div>
  );
}

function summary(face: Face, known: boolean, member: Member): string {
  if (member.fault) return "damaged";
  if (known) return face.summary(member);
  return member.kind === "part" ? "part of another item" : member.kind;
}
