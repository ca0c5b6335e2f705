import { useState } from "react";
import type { Edit } from "../../api/client";
import { Copyable } from "../../components/controls";
import { Fold } from "../../components/Fold";
import { detailsOf } from "./details";
import { useDensity } from "./queries";

/** How finely the texture covers a surface of the game's world, and how large it has to be for another fineness. */
export function Density({ project, edit }: { project: string; edit: Edit }) {
  const [world, setWorld] = useState("128");
  const [wanted, setWanted] = useState("4");
  const { width, height } = detailsOf(edit).recipe;
  const { data } = useDensity(project, edit.address, Number(world), Number(wanted));
  return (
    <Fold title="Texels per unit" words={data ? `${short(data.per_unit)} on ${world} units` : "on a surface"}>
      <div className="mt-3 grid gap-2">
        <Amount label="Its width covers" unit="units" value={world} onChange={setWorld} />
        <Amount label="Wanted" unit="texels a unit" value={wanted} onChange={setWanted} />
        {data ? (
          <p aria-live="polite">
            {width} × {height} on {world} × {short(data.across)} units is{" "}
            <b>{short(data.per_unit)} texels a unit</b>, a scale of {short(data.scale)}. For {wanted} a unit
            the side is{" "}
            <Copyable value={String(data.side)}>
              <b>{data.side}</b>
            </Copyable>
            .
          </p>
        ) : (
          <p className="text-quiet">Both numbers are greater than nothing.</p>
        )}
      </div>
    </Fold>
  );
}

function short(value: number): string {
  return String(Number(value.toPrecision(4)));
}

function Amount({
  label,
  unit,
  value,
  onChange,
}: {
  label: string;
  unit: string;
  value: string;
  onChange: (value: string) => void;
}) {
  return (
    <label className="grid grid-cols-[110px_80px_1fr] items-center gap-2">
      <span className="text-quiet">{label}</span>
      <input
        type="number"
        min="0"
        step="any"
        value={value}
        onChange={(event) => onChange(event.target.value)}
        className="min-w-0 rounded-lg bg-sunk px-2 py-1 tabular-nums"
      />
      <span className="text-quiet">{unit}</span>
    </label>
  );
}
