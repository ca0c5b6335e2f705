import { previewUrl } from "../../api/client";
import { usePutInWork } from "../../api/queries";
import { Button } from "../../components/controls";
import { baseName } from "../../lib/format";
import { roleWords } from "./maps";
import { useMaps } from "./queries";

/** The maps of one surface together: colour, normal and the rest, told by the ends of their names. */
export function Maps({
  project,
  address,
  opened,
  onSearch,
}: {
  project: string;
  address: string;
  opened: string;
  onSearch: (name: string) => void;
}) {
  const { data } = useMaps(project, address);
  const put = usePutInWork(project);
  if (!data || data.length < 2) return null;
  return (
    <section className="grid gap-2 rounded-xl bg-raised p-3" aria-label="Maps of this surface">
      <h3 className="font-bold">Maps of this surface</h3>
      <ul className="grid gap-1">
        {data.map((map) => (
          <li key={map.address}>
            <button
              type="button"
              aria-current={map.address === address}
              onClick={() => onSearch(map.name)}
              className="flex w-full items-center gap-2.5 rounded-lg p-1 text-left hover:bg-sunk aria-[current=true]:bg-heather-soft"
            >
              <span className="ground size-10 shrink-0 overflow-hidden rounded">
                <img
                  alt=""
                  className="size-full object-cover"
                  src={previewUrl(project, map.address, { fit: 64, revision: opened })}
                />
              </span>
              <span className="min-w-0">
                <span className="block truncate">{baseName(map.name)}</span>
                <span className="block text-[13.5px] text-quiet">{roleWords(map)}</span>
              </span>
            </button>
          </li>
        ))}
      </ul>
      <Button disabled={put.isPending} onClick={() => put.mutate(data.map((map) => map.address))}>
        Edit all {data.length}
      </Button>
    </section>
  );
}
