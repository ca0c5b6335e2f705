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
import { baseName, count } from "../../lib/format";
import { columnsFor } from "../../lib/grid";
import { type Group, Rows } from "../../lib/rows";
import { cell, type ListColumn } from "./columns";
import { OnTable, Places, type Selection, Typing } from "./selection";
import { queryOf, type Search, type useCatalogue } from "./useCatalogue";
import { type Area, useLasso } from "./useLasso";
import { useKeepPlace, useKeptPlace } from "./usePlace";

export type TableView = "pictures" | "list";
const GAP = 12;
const CAPTION = 44;
const PADDING = 16;
const HEADING = 36;
/** how far the tops of two lines lie apart, for a size of the pictures */
const lineHeight = (tile: number) => Math.round(26 + (tile - 84) * 0.3);

type Props = {
  project: string;
  view: TableView;
  tile: number;
  columns: ListColumn[];
  search: Search;
  catalogue: ReturnType<typeof useCatalogue>;
  /** null where the items are not grouped */
  groups: Group[] | null;
  /** how the name of a group is written */
  groupWords: (name: string) => string;
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
    groups,
    groupWords,
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
  // Groups and items are asked for apart: while one of them is older than the other there are no headings.
  const table = useMemo(() => {
    const grouped = groups?.reduce((sum, { count }) => sum + count, 0) === total;
    return new Rows(grouped ? groups : null, total, columns);
  }, [groups, total, columns]);
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

  const written = useRef<string | null>(null);
  const kept = useKeptPlace(project, search, total, written);
  // biome-ignore lint/correctness/useExhaustiveDependencies: when it is known where to go
  useEffect(() => {
    if (kept?.place != null) {
      manager.setFocusedKey(kept.place);
      manager.replaceSelection(kept.place);
      rows.scrollToIndex(table.of(kept.place).row, { align: "center" });
    }
    if (kept && (kept.chosen === "all" || kept.chosen.size > 1)) manager.setSelectedKeys(kept.chosen);
  }, [kept]);
  useKeepPlace(
    focused === null ? undefined : catalogue.at(focused)?.address,
    selectedKeys,
    kept !== null,
    written,
  );

  const rows = useVirtualizer({
    count: table.count,
    getScrollElement: () => frame.current,
    estimateSize: (row) => (table.isHeading(row) ? HEADING : height),
    overscan: 3,
    paddingStart: 2,
    // The focused item stays, so that the keys go on to work when it is scrolled away.
    rangeExtractor: (range: Range) => {
      const found = defaultRangeExtractor(range);
      const row = focused === null ? -1 : table.of(focused).row;
      return row < 0 || row >= range.count || found.includes(row)
        ? found
        : [...found, row].sort((a, b) => a - b);
    },
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: rows must be measured anew when their height changes
  useEffect(() => rows.measure(), [height, table]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the focused row is brought into sight when the focus moves
  useEffect(() => {
    if (focused !== null && manager.isFocused) rows.scrollToIndex(table.of(focused).row);
  }, [focused]);
  const visible = rows.getVirtualItems();
  const top = firstOf(table, rows.range?.startIndex ?? 0);
  const bottom = Math.min(firstOf(table, Math.min((rows.range?.endIndex ?? 0) + 4, table.count)), total) - 1;
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
  const atFirst = useRef<Set<number>>(new Set());
  const lasso = useLasso(frame, (area, more, first) => {
    if (first) atFirst.current = new Set(more && selectedKeys !== "all" ? [...selectedKeys].map(Number) : []);
    const inside = touched(
      table,
      area,
      { columns, side: list ? width : side, gap: list ? 0 : GAP },
      (row) => {
        const at = rows.measurementsCache[row];
        return at ? [at.start, at.end] : null;
      },
    );
    manager.setSelectedKeys(new Set([...atFirst.current, ...inside]));
  });
  const { gridProps } = useGridList(
    {
      "aria-label":
        "Items (arrow keys move, Shift, Ctrl or a drawn rectangle choose several, letters go to a name, Enter edits)",
      keyboardDelegate: new OnTable(places, table, page),
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
        {visible.flatMap((row) => {
          const here = table.at(row.index);
          if ("group" in here)
            return (
              <Heading
                key={`group ${here.group}`}
                words={groupWords(groups?.[here.group]?.name ?? "")}
                count={groups?.[here.group]?.count ?? 0}
                top={row.start}
                onChoose={() => {
                  const [first, last] = table.spanOf(here.group);
                  manager.setFocusedKey(first);
                  manager.setSelectedKeys(Array.from({ length: last - first }, (_, step) => first + step));
                }}
              />
            );
          return Array.from({ length: here.last - here.first }, (_, column) => {
            const place = here.first + column;
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
          });
        })}
        {lasso && (
          <div
            className="pointer-events-none absolute z-10 rounded border-2 border-heather bg-heather/15"
            style={{
              left: lasso.left - PADDING,
              top: lasso.top,
              width: lasso.right - lasso.left,
              height: lasso.bottom - lasso.top,
            }}
          />
        )}
      </div>
    </div>
  );
}

/** The first item of a row, or of the row below a heading. */
function firstOf(table: Rows, row: number): number {
  if (row >= table.count) return table.total;
  const here = table.at(row);
  return "group" in here ? table.spanOf(here.group)[0] : here.first;
}

/** The items that a rectangle touches. */
function* touched(
  table: Rows,
  area: Area,
  size: { columns: number; side: number; gap: number },
  spanOf: (row: number) => [number, number] | null,
): Generator<number> {
  const step = size.side + size.gap;
  for (let row = 0; row < table.count; row += 1) {
    const span = spanOf(row);
    if (!span || span[1] < area.top) continue;
    if (span[0] > area.bottom) return;
    const here = table.at(row);
    if ("group" in here) continue;
    for (let place = here.first; place < here.last; place += 1) {
      const left = (place - here.first) * step + PADDING;
      if (left < area.right && left + size.side > area.left) yield place;
    }
  }
}

/** What stands above a group; pressing it chooses the group. */
function Heading({
  words,
  count: number,
  top,
  onChoose,
}: {
  words: string;
  count: number;
  top: number;
  onChoose: () => void;
}) {
  return (
    // biome-ignore lint/a11y/useSemanticElements: as the rows of items
    // biome-ignore lint/a11y/useFocusableInteractive: the button in it is reached by itself
    <div
      role="row"
      className="absolute inset-x-0 flex items-end gap-2 px-1 pb-1"
      style={{ top, height: HEADING }}
    >
      {/* biome-ignore lint/a11y/useSemanticElements: as above */}
      {/* biome-ignore lint/a11y/useFocusableInteractive: as above */}
      <div role="rowheader" className="flex min-w-0 items-end gap-2">
        <button
          type="button"
          className="min-w-0 truncate text-left font-bold hover:underline"
          title="Choose all of this group"
          onClick={onChoose}
        >
          {words}
        </button>
        <span className="shrink-0 text-[13.5px] text-quiet">{count(number)}</span>
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
        {(member.edit || member.made) && (
          <span className="absolute top-1.5 right-1.5 rounded-full bg-gorse px-2 text-[12.5px] font-bold text-gorse-ink">
            {member.edit ? "editing" : "new"}
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
      {(member.edit || member.made) && (
        <span className="rounded-full bg-gorse px-2 text-[13px] font-bold text-gorse-ink">
          {member.edit ? "editing" : "new"}
        </span>
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
