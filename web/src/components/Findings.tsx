import { CheckCircle2, Info, OctagonAlert, TriangleAlert } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import type { Edit, Finding } from "../api/client";
import { useSetMeant, useSetRemedies } from "../api/queries";
import { Button } from "./controls";
import { ENTRY, Menu } from "./Menu";

const SIGNS = {
  stops: { icon: OctagonAlert, words: "The game would stop", className: "text-rust" },
  shows: { icon: TriangleAlert, words: "It would show", className: "text-rust" },
  note: { icon: Info, words: "Good to know", className: "text-quiet" },
} as const;

/** Each finding with what the game would do, and its remedy as a button. */
export function Findings({ project, edit }: { project: string; edit: Edit }) {
  const set = useSetRemedies(project);
  const say = useSetMeant(project);
  const all = edit.sheet?.findings ?? [];
  const automatic = all.filter((finding) => finding.remedy?.automatic);
  const findings = all.filter((finding) => !finding.remedy?.automatic && !finding.meant);
  const intended = all.filter((finding) => finding.meant);
  const applied = edit.steps[edit.position - 1]?.remedies ?? [];
  // One remedy may put several findings right; it is offered once.
  const offered = new Set<string>();
  return (
    <ul className="grid gap-2">
      {findings.length === 0 && (
        <li className="flex items-center gap-2 text-moss">
          <CheckCircle2 aria-hidden className="size-5" />
          {intended.length === 0 ? "Nothing that the game would trip over." : "Nothing is left to decide."}
        </li>
      )}
      {findings.map((finding) => {
        const first = finding.remedy && !offered.has(finding.remedy.id);
        if (finding.remedy) offered.add(finding.remedy.id);
        return (
          <FindingRow
            key={finding.id}
            finding={finding}
            busy={set.isPending || say.isPending}
            onMeant={(scope) => say.mutate({ address: edit.address, finding: finding.id, scope })}
            onRemedy={
              first
                ? (id, on) =>
                    set.mutate({
                      address: edit.address,
                      remedies: [
                        ...applied.filter((one) => !ways(finding).includes(one)),
                        ...(on ? [id] : []),
                      ],
                    })
                : undefined
            }
          />
        );
      })}
      {intended.map((finding) => (
        <li key={finding.id} className="flex items-center gap-3 text-[14px] text-quiet">
          <span className="min-w-0 flex-1">Meant: {small(finding.title)}</span>
          <Button
            look="quiet"
            disabled={say.isPending}
            onClick={() => say.mutate({ address: edit.address, finding: finding.id, scope: null })}
          >
            Not meant after all
          </Button>
        </li>
      ))}
      {automatic.length > 0 && (
        <li className="text-[14px] text-quiet">
          Put right by itself: {automatic.map((finding) => small(finding.remedy?.label ?? "")).join("; ")}.
        </li>
      )}
    </ul>
  );
}

/** What puts a finding right: one of these at a time. */
function ways(finding: Finding): string[] {
  return [finding.remedy, ...finding.others].flatMap((one) => (one ? [one.id] : []));
}

type Scope = "item" | "folder" | "game";
const SCOPES: [Scope, string][] = [
  ["item", "Of this item"],
  ["folder", "Of everything in its folder"],
  ["game", "Of every item of this game"],
];

/** Nothing has to be decided: it is on purpose. */
function MeantMenu({ busy, onMeant }: { busy: boolean; onMeant: (scope: Scope) => void }) {
  return (
    <Menu words="This is meant" look="hover:bg-sunk" align="start" disabled={busy}>
      {SCOPES.map(([scope, words]) => (
        <DropdownMenu.Item key={scope} className={ENTRY} onSelect={() => onMeant(scope)}>
          {words}
        </DropdownMenu.Item>
      ))}
    </Menu>
  );
}

/** Words at the beginning of a sentence. */
function large(words: string): string {
  return words.charAt(0).toUpperCase() + words.slice(1);
}

/** A sentence in the middle of another one. */
function small(words: string): string {
  return words.charAt(0).toLowerCase() + words.slice(1);
}

function FindingRow({
  finding,
  busy,
  onRemedy,
  onMeant,
}: {
  finding: Finding;
  busy: boolean;
  onMeant: (scope: Scope) => void;
  onRemedy?: (id: string, on: boolean) => void;
}) {
  const right = finding.remedy?.applied ?? false;
  const sign = SIGNS[finding.severity];
  const Icon = right ? CheckCircle2 : sign.icon;
  return (
    <li
      className={`rounded-lg p-3 ${right ? "bg-moss-soft" : finding.severity === "note" ? "bg-sunk" : "bg-rust-soft"}`}
    >
      <div className="flex items-start gap-2">
        <Icon
          aria-label={right ? "put right" : sign.words}
          className={`mt-0.5 size-5 shrink-0 ${right ? "text-moss" : sign.className}`}
        />
        <div className="min-w-0 flex-1">
          <b>{finding.title}</b>
          <p className="text-[14.5px]">
            {right ? `Put right: ${small(finding.remedy?.label ?? "")}.` : finding.in_game}
          </p>
          {!right && <p className="text-[13.5px] text-quiet">{large(finding.sure)}.</p>}
        </div>
      </div>
      <div className="mt-2 flex flex-wrap items-center gap-2 empty:hidden">
        {finding.remedy && onRemedy && (
          <Button
            look={right ? "quiet" : "act"}
            className="max-w-full text-left whitespace-normal!"
            disabled={busy}
            onClick={() => finding.remedy && onRemedy(finding.remedy.id, !right)}
          >
            {right ? "Leave it as it came" : finding.remedy.label}
          </Button>
        )}
        {!right &&
          onRemedy &&
          finding.others.map((one) => (
            <Button
              key={one.id}
              look="quiet"
              className="max-w-full text-left whitespace-normal!"
              disabled={busy}
              onClick={() => onRemedy(one.id, true)}
            >
              {one.label}
            </Button>
          ))}
        {!right && finding.severity !== "note" && <MeantMenu busy={busy} onMeant={onMeant} />}
      </div>
    </li>
  );
}
