import { Download, X } from "lucide-react";
import { type Edit, previewUrl } from "../../api/client";
import { useTakeBeside } from "../../api/queries";
import { Button } from "../../components/controls";
import { BringPicture, Fold } from "../../components/Fold";
import { baseName } from "../../lib/format";
import { detailsOf } from "./details";
import { roughChannel } from "./maps";
import { useMaps, useRoughen } from "./queries";

/** Mip levels one by one: take one out, paint it, and it stands in the place of the one that is worked out. */
export function Mips({ project, edit }: { project: string; edit: Edit }) {
  const details = detailsOf(edit);
  const own = edit.beside ?? {};
  const act = useTakeBeside(project);
  const levels = Array.from({ length: Math.max(0, details.mips - 1) }, (_, number) => number + 1);
  const made = Object.keys(own).length;
  const which = edit.position ? "edit" : "original";
  const { data: maps } = useMaps(project, edit.address);
  const roughen = useRoughen(project);
  const normals = maps?.find((map) => map.role === "normal");
  const rough = roughChannel(maps?.find((map) => map.address === edit.address));
  return (
    <Fold title="Mip levels" words={made ? `${made} by hand` : "all worked out"}>
      <ol className="mt-2 grid">
        {levels.map((level) => {
          const sides = `${Math.max(1, details.width >> level)} × ${Math.max(1, details.height >> level)}`;
          return (
            <li key={level} className="flex items-center gap-2 py-0.5">
              <span className="w-24 tabular-nums">
                {level}: {sides}
              </span>
              <span className="min-w-0 flex-1 truncate text-quiet">{own[level] ?? "worked out"}</span>
              <a
                href={previewUrl(project, edit.address, { which, level, revision: edit.revision })}
                download={`${edit.name.split("/").pop()}.level${level}.png`}
                title={`Download level ${level} as a PNG`}
                aria-label={`Download level ${level}`}
                className="rounded p-1 hover:bg-sunk"
              >
                <Download aria-hidden className="size-4" />
              </a>
              <BringPicture
                title={`Bring a picture of ${sides} pixels for level ${level}`}
                label={`A picture for level ${level}`}
                onFile={(file) => act.mutate({ address: edit.address, part: String(level), file })}
              />
              <button
                type="button"
                aria-label={`Work level ${level} out again`}
                title="Work it out again"
                disabled={!own[level]}
                onClick={() => act.mutate({ address: edit.address, part: String(level), file: null })}
                className="rounded p-1 hover:bg-sunk disabled:invisible"
              >
                <X aria-hidden className="size-4" />
              </button>
            </li>
          );
        })}
      </ol>
      {normals && rough && levels.length > 0 && (
        <div className="mt-2 grid gap-1.5">
          <Button
            className="justify-self-start"
            disabled={roughen.isPending}
            onClick={() => roughen.mutate({ address: edit.address, normals: normals.address, ...rough })}
          >
            Let {rough.holds} follow the normal map
          </Button>
          <p className="text-quiet">
            Bumps too small for a level scatter light: each level gets rougher by what{" "}
            {baseName(normals.name)} loses there. Press it again after painting.
          </p>
        </div>
      )}
    </Fold>
  );
}
