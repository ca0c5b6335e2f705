import type { Edit } from "../api/client";
import { count } from "../lib/format";
import { Button } from "./controls";

type Props = { edit: Edit; onWorst?: (place: { x: number; y: number; side: number }) => void };

/** The match sheet: the edit against the original, property by property, and what the encoding cost. */
export function Sheet({ edit, onWorst }: Props) {
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
              <td className={`py-1 ${row.same ? "text-moss" : "font-bold text-rust"}`}>{row.result}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-2 text-[14px] text-quiet">
        {count(sheet.blocks_kept)} of {count(sheet.blocks)}{" "}
        {edit.recipe.format.startsWith("bc") ? "blocks" : "pixels"} keep the original's bytes; the rest is
        encoded anew.
      </p>
      <Cost quality={sheet.quality} onWorst={onWorst} />
    </div>
  );
}

type Quality = NonNullable<Edit["sheet"]>["quality"];

/** In words first: most people do not know what a decibel of a picture is. */
function verdict(quality: Quality): string {
  if (quality.psnr == null) return "What is stored equals what was painted.";
  if (quality.ciede_99 < 2) return "Nobody will see a difference to what was painted.";
  if (quality.ciede_99 < 5) return "Close to what was painted; flat colours and hard edges differ a little.";
  return "In places it differs visibly from what was painted.";
}

function Cost({ quality, onWorst }: { quality: Quality; onWorst?: Props["onWorst"] }) {
  const worst = quality.worst;
  return (
    <div className="mt-2 grid gap-1.5 rounded-xl bg-raised p-3.5 text-[14px]">
      <h2 className="font-bold">What the encoding cost</h2>
      <p>{verdict(quality)}</p>
      {quality.psnr != null && (
        <p className="text-quiet tabular-nums">
          PSNR {quality.psnr.toFixed(1)} dB · SSIM {quality.ssim.toFixed(4)} · CIEDE2000 mean{" "}
          {quality.ciede_mean.toFixed(2)}, 99 % within {quality.ciede_99.toFixed(1)}
          {quality.angle != null && ` · mean angle ${quality.angle.toFixed(2)}°`}
        </p>
      )}
      {worst && onWorst && (
        <Button
          className="justify-self-start"
          onClick={() => onWorst({ x: worst[0] ?? 0, y: worst[1] ?? 0, side: quality.worst_side })}
        >
          Show the worst block ({worst[0]}, {worst[1]})
        </Button>
      )}
    </div>
  );
}
