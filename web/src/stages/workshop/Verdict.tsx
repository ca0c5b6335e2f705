import { useMutation } from "@tanstack/react-query";
import { BadgeCheck, ShieldAlert } from "lucide-react";
import { useNavigate } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { showProblem, useKeepLayout, useOpenAgain } from "../../api/queries";
import { Button } from "../../components/controls";
import { contradicted, Evidence } from "../../components/Evidence";
import { many } from "../../lib/format";

/** The proof, or what is still wrong; and using the description. */
export function Verdict({
  project,
  look,
  text,
  fresh,
  onTake,
}: {
  project: string;
  look: Schemas["WorkshopView"];
  text: string;
  fresh: boolean;
  onTake: (text: string) => void;
}) {
  const keep = useKeepLayout();
  const again = useOpenAgain();
  const navigate = useNavigate();
  const use = () =>
    keep.mutate(text, {
      onSuccess: () => again.mutate(project, { onSuccess: () => navigate(`/p/${project}/open`) }),
    });
  const { error, proof } = look;
  return (
    <div className={`grid gap-2 rounded-lg bg-raised p-3 ${fresh ? "" : "opacity-60"}`} role="status">
      {proof?.exact && contradicted(look.evidence) ? (
        <p className="flex items-start gap-2 text-rust">
          <ShieldAlert aria-hidden className="mt-0.5 size-5 shrink-0" />
          <span>
            <b>Not right yet.</b> A rebuild equals the file byte for byte, but the members contradict the
            description.
          </span>
        </p>
      ) : proof?.exact ? (
        <p className="flex items-start gap-2 text-moss">
          <BadgeCheck aria-hidden className="mt-0.5 size-5 shrink-0" />
          <span>
            <b>Proved.</b>{" "}
            {look.says
              ? "Written again without a change it is the same, byte for byte. Whether it is right you see in the picture."
              : `An unchanged rebuild equals the file byte for byte; ${many(look.members, "member")}.`}
          </span>
        </p>
      ) : (
        <p className="flex items-start gap-2 text-rust">
          <ShieldAlert aria-hidden className="mt-0.5 size-5 shrink-0" />
          <span>
            {error ? (
              <>
                {error.line ? <b>Line {error.line}: </b> : null}
                {error.message} {error.expected && `Expected ${error.expected}.`}
              </>
            ) : (
              (proof?.reason ??
              "It is proved when the game is opened: there is too much of it to do it while you type.")
            )}
          </span>
        </p>
      )}
      {look.says && (
        <figure className="flex items-center gap-4">
          {look.picture && (
            <img
              src={`data:image/png;base64,${look.picture}`}
              alt="As it is described now"
              className="max-h-44 max-w-64 rounded-md bg-[repeating-conic-gradient(#8884_0_25%,transparent_0_50%)] bg-[length:16px_16px]"
            />
          )}
          <figcaption>{look.says}</figcaption>
        </figure>
      )}
      {proof?.remedy && proof.field && (
        <Mend project={project} text={text} field={proof.field} remedy={proof.remedy} onTake={onTake} />
      )}
      <Evidence evidence={look.evidence} />
      <div className="flex items-center gap-3">
        <Button
          look={proof?.exact && !contradicted(look.evidence) ? "act" : "plain"}
          disabled={!!error || !fresh || keep.isPending || again.isPending}
          onClick={use}
        >
          Use this layout
        </Button>
        <span className="text-[14px] text-quiet">
          It is kept in Brae's own folder; the game is looked at again.
        </span>
      </div>
    </div>
  );
}

/** The line that would explain why a rebuild differs. */
function Mend({
  project,
  text,
  field,
  remedy,
  onTake,
}: {
  project: string;
  text: string;
  field: string;
  remedy: string;
  onTake: (text: string) => void;
}) {
  const mend = useMutation({
    mutationFn: () =>
      take(
        client.POST("/api/projects/{project_id}/workshop/mend", {
          params: { path: { project_id: project } },
          body: { text, field, remedy },
        }),
      ),
    onSuccess: (said) => onTake(said.text),
    onError: showProblem,
  });
  return (
    <div className="flex items-center gap-3">
      <span className="min-w-0 flex-1">
        This would explain it: <code className="font-mono text-[13.5px] break-words">{remedy}</code>
      </span>
      <Button disabled={mend.isPending} onClick={() => mend.mutate()}>
        Write it down
      </Button>
    </div>
  );
}
