/** A mouth in the shape of a phoneme. */
import type { Schemas } from "../../api/client";

export function Mouth({ shape }: { shape: Schemas["Mouth"] | undefined }) {
  const { opened = 0, wide = 0.5, teeth = false, tongue = false, example = "" } = shape ?? {};
  const [half, high] = [14 + 34 * wide, 3 + 30 * opened];
  return (
    <svg viewBox="0 0 120 92" className="h-24 w-32" role="img" aria-label={`A mouth as in ${example}`}>
      <title>{`As in ${example}`}</title>
      <clipPath id="within-lips">
        <ellipse cx={60} cy={46} rx={half} ry={high} />
      </clipPath>
      <ellipse cx={60} cy={46} rx={half + 6} ry={high + 6} className="fill-[#b8707a]" />
      <ellipse cx={60} cy={46} rx={half} ry={high} className="fill-[#4a1c22]" />
      <g clipPath="url(#within-lips)">
        {teeth && (
          <rect x={0} y={46 - high} width={120} height={Math.min(high * 0.7, 9)} className="fill-[#f4efe4]" />
        )}
        {tongue && (
          <ellipse cx={60} cy={46 + high * 0.8} rx={half * 0.6} ry={high * 0.7} className="fill-[#d0747c]" />
        )}
      </g>
    </svg>
  );
}
