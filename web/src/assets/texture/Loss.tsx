import type { Edit } from "../../api/client";
import { Button } from "../../components/controls";
import { count } from "../../lib/format";
import { detailsOf, type TextureDetails } from "./details";

type Props = { edit: Edit; onWorst?: (place: { x: number; y: number; side: number }) => void };

type Quality = NonNullable<TextureDetails["quality"]>;

/** In words first: most people do not know what a decibel of a picture is. */
function verdict(quality: Quality): string {
  if (quality.psnr == null) return "What is stored equals what was painted.";
  if (quality.ciede_99 < 2) return "Nobody will see a difference to what was painted.";
  if (quality.ciede_99 < 5) return "Close to what was painted; flat colours and hard edges differ a little.";
  return "In places it differs visibly from what was painted.";
}

/** What the encoding changed of what was painted, in words first and numbers behind. */
export function Loss({ edit, onWorst }: Props) {
  const details = detailsOf(edit);
  const quality = details.quality;
  if (!quality) return null;
  const worst = quality.worst;
  return (
    <div className="grid gap-1.5 rounded-xl bg-raised p-3.5 text-[14px]">
      <h2 className="font-bold">Compression loss</h2>
      <p>{verdict(quality)}</p>
      {quality.psnr != null && (
        <p className="text-quiet tabular-nums">
          PSNR {quality.psnr.toFixed(1)} dB · SSIM {quality.ssim.toFixed(4)} · CIEDE2000 mean{" "}
          {quality.ciede_mean.toFixed(2)}, 99th percentile {quality.ciede_99.toFixed(1)}
          {quality.angle != null && ` · mean angle ${quality.angle.toFixed(2)}°`}
        </p>
      )}
      <p className="text-quiet">
        {count(details.blocks_kept)} of {count(details.blocks)}{" "}
        {details.recipe.format.startsWith("bc") ? "blocks" : "pixels"} keep the original's bytes; the rest is
        encoded anew.
      </p>
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
