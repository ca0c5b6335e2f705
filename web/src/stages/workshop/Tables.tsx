/** What lies in a file, line by line; a name leads to its bytes. */
import type { ReactNode } from "react";
import type { Schemas } from "../../api/client";
import { count, many } from "../../lib/format";

const MOST_FOUND = 200;

interface Line {
  key: number;
  name: string;
  place: number;
  cells: ReactNode[];
}

function PlaceTable({
  title,
  heads,
  lines,
  onGo,
}: {
  title: string;
  heads: string[];
  lines: Line[];
  onGo: (place: number) => void;
}) {
  if (lines.length === 0) return null;
  return (
    <div className="min-h-32 shrink-0 overflow-auto">
      <table className="w-full text-left text-[13.5px]">
        <caption className="pb-1 text-left font-bold">{title}</caption>
        <thead className="text-quiet">
          <tr>
            {heads.map((word) => (
              <th key={word} className="pr-3 font-normal">
                {word}
              </th>
            ))}
          </tr>
        </thead>
        <tbody className="tabular-nums">
          {lines.map((line) => (
            <tr key={line.key} className="border-t border-line hover:bg-sunk">
              <td className="max-w-64 truncate pr-3">
                <button
                  type="button"
                  className="min-h-6 w-full text-left underline-offset-4 hover:underline"
                  onClick={() => onGo(line.place)}
                >
                  {line.name}
                </button>
              </td>
              <td className="pr-3">{count(line.place)}</td>
              {line.cells.map((cell, number) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: a cell is what its column's head says
                <td key={number} className="pr-3">
                  {cell}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** Files that were found by their signs and that the description does not reach yet. */
export function FoundTable({ map, onGo }: { map: Schemas["FileMap"]; onGo: (place: number) => void }) {
  const found = map.spans.filter((span) => span.kind === "found");
  return (
    <PlaceTable
      title={`${many(found.length, "file")} found by their signs, that the description does not reach`}
      heads={["what", "offset", "bytes"]}
      lines={found.slice(0, MOST_FOUND).map((span) => ({
        key: span.start,
        name: span.name,
        place: span.start,
        cells: [count(span.end - span.start)],
      }))}
      onGo={onGo}
    />
  );
}

/** The members as the description reads them. */
export function MemberTable({
  look,
  onGo,
}: {
  look: Schemas["WorkshopView"];
  onGo: (place: number) => void;
}) {
  const some = look.members > look.rows.length ? `, the first ${look.rows.length}` : "";
  return (
    <PlaceTable
      title={`${many(look.members, "member")}${some}`}
      heads={["name", "offset", "stored", "real", "packed", "begins with"]}
      lines={look.rows.map((row, number) => ({
        // Members have no other identity; names may repeat.
        key: number,
        name: row.name,
        place: row.offset,
        cells: [
          count(row.stored),
          row.real < 0 ? "?" : count(row.real),
          row.fault ? (
            <span key="fault" className="text-rust">
              {row.fault}
            </span>
          ) : (
            row.packer
          ),
          <span key="head" className="font-mono text-[12.5px] text-quiet">
            {row.head}
          </span>,
        ],
      }))}
      onGo={onGo}
    />
  );
}
