import { ScanSearch } from "lucide-react";
import { useStructures } from "../../api/queries";
import { Button } from "../../components/controls";
import { many } from "../../lib/format";

/** What the search for a structure proposes, as long as the description says something else. */
export function Proposed({
  project,
  file,
  data,
  text,
  onTake,
}: {
  project: string;
  file: string;
  data: string | null;
  text: string;
  onTake: (text: string) => void;
}) {
  const { data: structures = [] } = useStructures(project);
  const found = structures.find((one) => one.path === file && (one.data ?? null) === data);
  const best = found?.proposals[0];
  if (!best || best.text === text) return null;
  return (
    <div className="flex items-center gap-3 rounded-lg bg-raised p-3">
      <ScanSearch aria-hidden className="size-5 shrink-0 text-heather" />
      <span className="min-w-0 flex-1">
        Brae found a structure: {many(best.members, "member")}, {(best.explained * 100).toFixed(1)} % of the
        bytes explained, {best.state === "proved" ? "with its proof" : "a beginning"}.
      </span>
      <Button onClick={() => onTake(best.text)}>Put it here</Button>
    </div>
  );
}
