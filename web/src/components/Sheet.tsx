import type { Edit } from "../api/client";

/** The match sheet: the edit against the original, property by property. */
export function Sheet({ edit }: { edit: Edit }) {
  const sheet = edit.sheet;
  if (!sheet) return null;
  return (
    <div>
      <table className="w-full text-left text-[14px]">
        <thead className="text-quiet">
          <tr>
            <th className="py-1 pr-2 font-normal">
              <span className="sr-only">Property</span>
            </th>
            <th className="pr-2 font-normal">original</th>
            <th className="pr-2 font-normal">your file</th>
            <th className="font-normal">in the game</th>
          </tr>
        </thead>
        <tbody>
          {sheet.properties.map((row) => (
            <tr key={row.name} className="border-t border-line align-top">
              <th className="py-1 pr-2 font-normal text-quiet">{row.name}</th>
              <td className="py-1 pr-2">{row.original}</td>
              <td className="py-1 pr-2">{row.edit}</td>
              <td
                className={`py-1 ${row.same ? "text-moss" : row.matters === false ? "" : "font-bold text-rust"}`}
              >
                {row.result}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
