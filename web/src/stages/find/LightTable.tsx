import { defaultRangeExtractor, type Range, useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import { useGridList, useGridListItem } from "react-aria/useGridList";
import type { ListState } from "react-stately";
import { SelectionManager } from "react-stately/private/selection/SelectionManager";
import { useMultipleSelectionState } from "react-stately/useMultipleSelectionState";
import { client, type Member, take } from "../../api/client";
import type { Face } from "../../assets/face";
import { useKind } from "../../assets/kinds";
import { faceOf, iconOf } from "../../assets/registry";
import { baseName } from "../../lib/format";
import { columnsFor } from "../../lib/grid";
import { cell, type ListColumn } from "./columns";
import { OnTable, Places, type Selection, Typing } from "./selection";
import { queryOf, type Search, type useCatalogue } from "./useCatalogue";

export type TableView = "pictures" | "list";
const GAP = 12;
const CAPTION = 44;
const PADDING = 16;
/** how far the tops of two lines lie apart, for a size of the pictures */
const lineHeight = (tile: number) => Math.round(26 + (tile - 84) * 0.3);

type Props = {
  project: string;
  view: TableView;
  tile: number;
  columns: ListColumn[];
  search: Search;
  catalogue: ReturnType<typeof useCatalogue>;
  onFocus: (place: number) => void;
  onSelection: (selection: Selection) => void;
  onOpen: (member: Member | undefined) => void;
  /** when the game was opened: pictures are kept by the browser until it is opened again */
  opened: string;
};

/**
 * Thousands of items, only those in sight drawn. Arrow keys move, Shift takes a range, Ctrl single ones more, Ctrl+A
 * all; letters go to the next name that begins so; Enter or a second click edits.
 */
export function LightTable(props: Props) {
  const {
    project,
    view,
    tile,
    columns: shown,
    search,
    catalogue,
    onFocus,
    onSelection,
    onOpen,
    opened,
  } = props;
  const frame = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(800);
  useLayoutEffect(() => {
    const element = frame.current;
    if (!element) return;
    const observer = new ResizeObserver(() => setWidth(element.clientWidth - 2 * PADDING));
    observer.observe(element);
    return () => observer.disconnect();
  }, []);
  const list = view === "list";
  const columns = list ? 1 : columnsFor(width, tile, GAP);
  const side = list ? lineHeight(tile) - 2 : Math.floor((width - (columns - 1) * GAP) / columns);
  const height = list ? lineHeight(tile) : side + CAPTION + GAP;

  const { total } = catalogue;
  const latest = useRef(catalogue.at);
  latest.current = catalogue.at;
  const places = useMemo(() => new Places(total, (place) => latest.current(place)), [total]);
  const selection = useMultipleSelectionState({ selectionMode: "multiple", selectionBehavior: "replace" });
  const manager = useMemo(() => new SelectionManager(places, selection), [places, selection]);
  const state = useMemo(
    () => ({ collection: places, disabledKeys: new Set(), selectionManager: manager }) as ListState<Member>,
    [places, manager],
  );
  const focused = selection.focusedKey === null ? null : Number(selection.focusedKey);
  const { selectedKeys } = selection;
  useEffect(() => onSelection(selectedKeys), [selectedKeys, onSelection]);
  useEffect(() => onFocus(focused ?? 0), [focused, onFocus]);
  // Items that come or go move the places of the others: what was chosen by its place is let go.
  const before = useRef(total);
  useEffect(() => {
    if (before.current === total) return;
    before.current = total;
    if (selectedKeys === "all" || selectedKeys.size > 1) manager.clearSelection();
  }, [total, manager, selectedKeys]);

  const rows = useVirtualizer({
    count: Math.ceil(total / columns),
    getScrollElement: () => frame.current,
    estimateSize: () => height,
    overscan: 3,
    paddingStart: 2,
    // The focused item stays, so that the keys go on to work when it is scrolled away.
    rangeExtractor: (range: Range) => {
      const found = defaultRangeExtractor(range);
      const row = focused === null ? -1 : Math.floor(focused / columns);
      return row < 0 || row >= range.count || found.includes(row)
        ? found
        : [...found, row].sort((a, b) => a - b);
    },
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: rows must be measured anew when their height changes
  useEffect(() => rows.measure(), [height]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the focused row is brought into sight when the focus moves
  useEffect(() => {
    if (focused !== null && manager.isFocused) rows.scrollToIndex(Math.floor(focused / columns));
  }, [focused]);
  const visible = rows.getVirtualItems();
  const top = rows.range ? rows.range.startIndex * columns : 0;
  const bottom = Math.min(((rows.range?.endIndex ?? 0) + 4) * columns, total) - 1;
  const { need } = catalogue;
  useEffect(() => {
    if (bottom >= top) need(top, bottom);
  }, [need, top, bottom]);

  const page = Math.max(1, Math.floor((frame.current?.clientHeight ?? height) / height));
  const typing = useRef(new Typing());
  const asked = useRef(0);
  const onKeyDownCapture = (event: React.KeyboardEvent) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const typed = typing.current.with(event.key, event.timeStamp);
    if (typed === null) return;
    event.preventDefault();
    event.stopPropagation();
    asked.current += 1;
    const mine = asked.current;
    // The same name goes on to fit while more of it is typed; one letter goes to the next.
    const after = typed.length > 1 ? (focused ?? 0) - 1 : (focused ?? -1);
    void take(
      client.GET("/api/projects/{project_id}/place", {
        params: { path: { project_id: project }, query: { ...queryOf(search), starts: typed, after } },
      }),
    ).then((place) => {
      if (place === null || mine !== asked.current) return;
      manager.setFocusedKey(place);
      manager.replaceSelection(place);
    });
  };
  const { gridProps } = useGridList(
    {
      "aria-label":
        "Items (arrow keys move, Shift and Ctrl choose several, letters go to a name, Enter edits)",
      keyboardDelegate: new OnTable(places, columns, page),
      disallowTypeAhead: true,
      keyboardNavigationBehavior: "tab",
      onAction: (key) => onOpen(latest.current(Number(key))),
    },
    state,
    frame,
  );
  return (
    // biome-ignore lint/a11y/useSemanticElements: only what is in sight is drawn, each at its place; no table can do that
    <div
      {...gridProps}
      role="grid"
      ref={frame}
      aria-rowcount={total}
      onKeyDownCapture={onKeyDownCapture}
      className="min-h-0 flex-1 overflow-auto px-4 focus-visible:outline-offset-[-3px]"
    >
      <div role="presentation" className="relative" style={{ height: rows.getTotalSize() }}>
        {visible.flatMap((row) =>
          Array.from({ length: columns }, (_, column) => {
            const place = row.index * columns + column;
            if (place >= total) return null;
            return (
              <Item
                key={place}
                state={state}
                place={place}
                project={project}
                member={catalogue.at(place)}
                list={list}
                columns={shown}
                side={side}
                opened={opened}
                style={{
                  top: row.start,
                  left: column * (side + GAP),
                  width: list ? "100%" : side,
                  height: height - (list ? 2 : GAP),
                }}
              />
            );
          }),
        )}
      </div>
    </div>
  );
}

function Item({
  state,
  place,
  style,
  list,
  member,
  ...rest
}: {
  state: ListState<Member>;
  place: number;
  project: string;
  member: Member | undefined;
  list: boolean;
  columns: ListColumn[];
  side: number;
  opened: string;
  style: React.CSSProperties;
}) {
  const ref = useRef<HTMLDivElement>(null);
  const node = state.collection.getItem(place) ?? state.collection.getItem(0);
  const { rowProps, gridCellProps, isSelected } = useGridListItem(
    // biome-ignore lint/style/noNonNullAssertion: a place that is drawn is one of the collection
    { node: node! },
    state,
    ref,
  );
  const focused = state.selectionManager.focusedKey === place;
  const look = isSelected ? "bg-heather-soft" : "hover:bg-sunk";
  const Look = list ? Line : Tile;
  return (
    // biome-ignore lint/a11y/useSemanticElements: as above
    <div
      {...rowProps}
      role="row"
      tabIndex={rowProps.tabIndex ?? -1}
      ref={ref}
      aria-rowindex={place + 1}
      aria-label={member ? member.name : "loading"}
      style={{ position: "absolute", ...style }}
      className={`cursor-default rounded-lg outline-none ${look} ${focused ? "ring-[3px] ring-heather" : isSelected ? "ring-2 ring-heather/60" : ""}`}
    >
      <div {...gridCellProps} className="size-full">
        {member ? <Look member={member} {...rest} /> : <Frame list={list} side={rest.side} />}
      </div>
    </div>
  );
}

/** What will be an item, at its size. */
function Frame({ list, side }: { list: boolean; side: number }) {
  return list ? (
    <div className="h-full rounded bg-sunk/60" />
  ) : (
    <div className="ground rounded-lg opacity-50" style={{ height: side }} />
  );
}

type ItemProps = {
  project: string;
  member: Member;
  side: number;
  opened: string;
  columns: ListColumn[];
};

function Thumbnail({ project, member, side, opened, face }: Omit<ItemProps, "columns"> & { face: Face }) {
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

function Line({ project, member, side, opened, columns }: ItemProps) {
  const face = faceOf(member.kind);
  return (
    <div className="flex h-full items-center gap-3 pr-3" style={{ fontSize: side < 34 ? 13.5 : undefined }}>
      <span
        className="ground grid h-full shrink-0 place-items-center overflow-hidden rounded"
        style={{ width: side }}
      >
        <Thumbnail project={project} member={member} side={side} opened={opened} face={face} />
      </span>
      <span className="min-w-0 flex-1 truncate" title={member.name}>
        {baseName(member.name)}
        <span className="ml-3 text-quiet">{member.name.slice(0, -baseName(member.name).length)}</span>
      </span>
      {member.winner && <span className="text-quiet">overridden</span>}
      {member.edit && (
        <span className="rounded-full bg-gorse px-2 text-[13px] font-bold text-gorse-ink">editing</span>
      )}
      {columns.map((column) => (
        <span
          key={column.id}
          className={`truncate text-quiet ${column.number ? "text-right tabular-nums" : ""}`}
          style={{ width: column.width }}
        >
          {cell(column, member)}
        </span>
      ))}
    </div>
  );
}

function summary(face: Face, known: boolean, member: Member): string {
  if (member.fault) return "damaged";
  if (known) return face.summary(member);
  return member.kind === "part" ? "part of another item" : member.kind;
}
