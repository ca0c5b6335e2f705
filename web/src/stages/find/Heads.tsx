/** The heads of the list: each orders by its column, the other way round on the second click. */
import { ChevronDown, ChevronUp, Columns3 } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { directionOf, type ListColumn, nextOrder } from "./columns";

const NAME = { id: "name", label: "Name", down: false };

export function Heads({
  columns,
  order,
  onOrder,
}: {
  columns: ListColumn[];
  order: string;
  onOrder: (order: string) => void;
}) {
  return (
    // As wide as the lines below: their scroll bar is kept free.
    <div className="mr-4 ml-4 flex gap-3 overflow-y-scroll border-b border-line pr-3 pl-1 text-[13.5px] [scrollbar-color:transparent_transparent]">
      <Head {...NAME} order={order} onOrder={onOrder} className="min-w-0 flex-1" />
      {columns.map((column) => (
        <Head key={column.id} {...column} order={order} onOrder={onOrder} style={{ width: column.width }} />
      ))}
    </div>
  );
}

function Head({
  id,
  label,
  down,
  number,
  order,
  onOrder,
  className = "",
  style,
}: {
  id: string;
  label: string;
  down: boolean;
  number?: boolean;
  order: string;
  onOrder: (order: string) => void;
  className?: string;
  style?: React.CSSProperties;
}) {
  const direction = directionOf(order, { id, down });
  const Sign = direction === "down" ? ChevronDown : ChevronUp;
  const words = direction ? `, ${direction === "down" ? "largest or last" : "smallest or first"} first` : "";
  return (
    <button
      type="button"
      aria-label={`Order by ${label.toLowerCase()}${words}`}
      aria-pressed={direction !== null}
      onClick={() => onOrder(nextOrder(order, id))}
      style={style}
      className={`flex items-center gap-1 py-1 font-bold hover:text-ink ${direction ? "text-ink" : "text-quiet"} ${number ? "justify-end" : ""} ${className}`}
    >
      <span className="truncate">{label}</span>
      {direction && <Sign aria-hidden className="size-4 shrink-0" />}
    </button>
  );
}

/** Which columns the list has. */
export function ColumnChoice({
  columns,
  shown,
  onChange,
}: {
  columns: ListColumn[];
  shown: string[];
  onChange: (shown: string[]) => void;
}) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="inline-flex items-center gap-1.5 rounded-lg bg-sunk px-3 py-1.5 whitespace-nowrap hover:bg-line">
        <Columns3 aria-hidden className="size-4" /> Columns
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={6}
          className="z-20 max-h-[70vh] min-w-48 overflow-auto rounded-xl border border-line bg-raised p-1.5 shadow-lg"
        >
          {columns.map(({ id, label }) => (
            <DropdownMenu.CheckboxItem
              key={id}
              checked={shown.includes(id)}
              onSelect={(event) => event.preventDefault()}
              onCheckedChange={(on) => onChange(on ? [...shown, id] : shown.filter((other) => other !== id))}
              className="flex cursor-pointer items-center gap-2 rounded-md px-3 py-1 outline-none data-[highlighted]:bg-sunk"
            >
              <span
                aria-hidden
                className={`size-3.5 rounded border border-line ${shown.includes(id) ? "bg-heather" : ""}`}
              />
              {label}
            </DropdownMenu.CheckboxItem>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
