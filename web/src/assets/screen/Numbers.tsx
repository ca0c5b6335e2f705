/** The numbers of a chosen rectangle: its place, and what it does. */
import { Link } from "react-router";
import { type Area, type Areas, targetOf } from "./areas";
import { Known } from "./Known";

const NUMBERS: Record<string, string> = {
  action: "Action",
  target: "Leads to",
  shows: "Shows",
  area_order: "Order",
  cursor_up: "Cursor up",
  cursor_down: "Cursor down",
  cursor_left: "Cursor left",
  cursor_right: "Cursor right",
};
const SIDES = [
  ["x", "Left"],
  ["y", "Top"],
  ["width", "Width"],
  ["height", "Height"],
] as const;
/** what is learnt from all of the game's screens */
const SORTS: Record<string, "actions" | "targets"> = { action: "actions", target: "targets" };
/** as high with a rectangle as without, so that the picture over it stays where it is */
export const PANEL = "min-h-[106px] shrink-0 rounded-xl bg-raised p-3 max-[1150px]:min-h-[134px]";
const FIELD = "w-20 rounded-lg bg-sunk px-2 py-1 tabular-nums";

/** The chosen rectangle's numbers. */
export function Numbers({
  project,
  address,
  screen,
  area,
  title,
  onChange,
}: {
  project: string;
  address: string;
  screen: Areas;
  area: Area;
  title: string;
  onChange: (next: Area) => void;
}) {
  const target = targetOf(area, screen);
  const way = target === undefined ? undefined : screen.ways[target];
  const number = (value: string) => Math.trunc(Number(value) || 0);
  return (
    <fieldset className={`${PANEL} flex flex-wrap content-start items-end gap-x-4 gap-y-2`}>
      <legend className="sr-only">{title}</legend>
      <b className="self-center">{title}</b>
      {SIDES.map(([id, words]) => (
        <label key={id} className="grid text-[13.5px] text-quiet">
          {words}
          <input
            type="number"
            value={area[id]}
            step={screen.grid}
            onChange={({ target }) => onChange({ ...area, [id]: number(target.value) })}
            className={`${FIELD} text-[16px] text-ink`}
          />
        </label>
      ))}
      {screen.labelled && (
        <label className="grid text-[13.5px] text-quiet">
          Label
          <input
            value={area.label ?? ""}
            onChange={({ target }) => onChange({ ...area, label: target.value })}
            className={`${FIELD} w-32 text-[16px] text-ink`}
          />
        </label>
      )}
      {screen.roles.map(({ id, known }) => {
        const put = (value: string) =>
          onChange({ ...area, numbers: { ...area.numbers, [id]: number(value) } });
        const value = area.numbers?.[id] ?? 0;
        const names = Object.entries(known);
        const sort = SORTS[id];
        return (
          <div key={id} className="grid text-[13.5px] text-quiet">
            {NUMBERS[id] ?? id}
            <span className="flex gap-1">
              {names.length ? (
                <select
                  aria-label={NUMBERS[id] ?? id}
                  value={value}
                  onChange={({ target }) => put(target.value)}
                  className={`${FIELD} w-36 text-[16px] text-ink`}
                >
                  {!(value in known) && <option value={value}>{value}</option>}
                  {names.map(([one, words]) => (
                    <option key={one} value={one}>
                      {words}
                    </option>
                  ))}
                </select>
              ) : (
                <input
                  aria-label={NUMBERS[id] ?? id}
                  type="number"
                  value={value}
                  onChange={({ target }) => put(target.value)}
                  className={`${FIELD} text-[16px] text-ink`}
                />
              )}
              {sort && (
                <Known
                  project={project}
                  address={address}
                  sort={sort}
                  value={value}
                  onChoose={(one) => put(String(one))}
                />
              )}
            </span>
          </div>
        );
      })}
      {way !== undefined && (
        <Link
          to={`/p/${project}/find?${new URLSearchParams({ q: `"${way.split("/").pop()}"` })}`}
          className="self-center underline underline-offset-4"
        >
          Go to screen {target}
        </Link>
      )}
      {target !== undefined && screen.lost.includes(target) && (
        <span className="self-center text-[14px] text-bad">There is no screen {target}.</span>
      )}
    </fieldset>
  );
}
