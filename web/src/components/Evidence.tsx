import { CircleHelp, ThumbsDown, ThumbsUp } from "lucide-react";
import type { Schemas } from "../api/client";

type One = Schemas["Evidence"];
const SIGNS = {
  for: { icon: ThumbsUp, className: "text-moss", words: "speaks for it" },
  against: { icon: ThumbsDown, className: "font-bold text-rust", words: "speaks against it" },
  nothing: { icon: CircleHelp, className: "text-quiet", words: "open" },
} as const;

/** Whether anything contradicts a description. */
export function contradicted(evidence: One[] | undefined): boolean {
  return evidence?.some((one) => one.speaks === "against") ?? false;
}

/** What a file says about its description beside the proof: names one record off prove as well. */
export function Evidence({ evidence }: { evidence: One[] | undefined }) {
  if (!evidence?.length) return null;
  return (
    <ul className="grid gap-1 text-[14.5px]" aria-label="What speaks for the description">
      {evidence.map((one) => {
        const { icon: Icon, className, words } = SIGNS[one.speaks];
        return (
          <li key={`${one.id} ${one.words}`} className={`flex items-start gap-2 ${className}`}>
            <Icon aria-label={words} className="mt-1 size-4 shrink-0" />
            <span>{one.words}</span>
          </li>
        );
      })}
    </ul>
  );
}
