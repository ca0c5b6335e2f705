import { AlertTriangle, CheckCircle2, CircleDashed, Equal, PackageCheck } from "lucide-react";
import type { Edit } from "../api/client";

/** How far an edit is, in a word and a sign. */
export function StateMark({ edit }: { edit: Edit }) {
  if (edit.fault) return <Mark icon={AlertTriangle} className="text-rust" words="file not readable" />;
  if (edit.state === "ready" && edit.built)
    return <Mark icon={PackageCheck} className="text-quiet" words="built, in the game" />;
  if (edit.state === "ready")
    return <Mark icon={CheckCircle2} className="text-moss" words="ready to build" />;
  if (edit.state === "attention") {
    const open = edit.sheet?.findings.filter(
      (finding) => finding.severity !== "note" && !finding.meant && !finding.remedy?.applied,
    );
    return (
      <Mark
        icon={AlertTriangle}
        className="text-rust"
        words={open?.length === 1 ? "1 finding" : `${open?.length ?? 0} findings`}
      />
    );
  }
  if (edit.state === "same") return <Mark icon={Equal} className="text-quiet" words="as the original" />;
  return <Mark icon={CircleDashed} className="text-quiet" words="waits for your file" />;
}

function Mark({ icon: Icon, className, words }: { icon: typeof Equal; className: string; words: string }) {
  return (
    <span className={`flex items-center gap-1 text-[13.5px] ${className}`}>
      <Icon aria-hidden className="size-3.5" /> {words}
    </span>
  );
}
