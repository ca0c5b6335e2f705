import { Download, X } from "lucide-react";
import { type Edit, previewUrl } from "../../api/client";
import { useTakeBeside } from "../../api/queries";
import { Button } from "../../components/controls";
import { BringPicture, Fold } from "../../components/Fold";
import { baseName } from "../../lib/format";
import { detailsOf } from "./details";
import { type MapView, roughPart } from "./maps";
import { useMaps } from "./queries";

/** Mip levels one by one: take one out, paint it, and it stands in the place of the one that is worked out. */
export function Mips({ project, edit }: { project: string; edit: Edit }) {
  const details = detailsOf(edit);
  const own = edit.beside ?? {};
  const act = useTakeBeside(project);
  const levels = Array.from({ length: Math.max(0, details.mips - 1) }, (_, number) => number + 1);
  const made = Object.keys(own).filter((part) => /^\d+$/.test(part)).length;
  const which = edit.position ? "edit" : "original";
  const { data: maps } = useMaps(project, edit.address);
  const normals = maps?.find((map) => map.role === "normal");
  const rough = roughPart(maps?.find((map) => map.address === edit.address));
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
      {rough && own[rough] && (
        <p className="mt-2 flex items-center gap-2">
          <span className="min-w-0 flex-1">
            Levels that are worked out get rougher by what <b>{own[rough]}</b> loses there.
          </span>
          <button
            type="button"
            aria-label="Let roughness follow nothing"
            title="Work the levels out without it"
            onClick={() => act.mutate({ address: edit.address, part: rough, file: null })}
            className="rounded p-1 hover:bg-sunk"
          >
            <X aria-hidden className="size-4" />
          </button>
        </p>
      )}
      {normals && rough && !own[rough] && levels.length > 0 && (
        <div className="mt-2 grid gap-1.5">
          <Button
            className="justify-self-start"
            disabled={act.isPending}
            onClick={async () =>
              act.mutate({ address: edit.address, part: rough, file: await pictureOf(project, normals) })
            }
          >
            Let {rough.split(":")[1]} follow the normal map
          </Button>
          <p className="text-quiet">
            Bumps too small for a level scatter light: each level gets rougher by what{" "}
            {baseName(normals.name)} loses there.
          </p>
        </div>
      )}
    </Fold>
  );
}

/** A map's picture as a file. */
async function pictureOf(project: string, map: MapView): Promise<File> {
  const answer = await fetch(previewUrl(project, map.address, { exact: true }));
  return new File([await answer.blob()], `${baseName(map.name)}.png`);
}
