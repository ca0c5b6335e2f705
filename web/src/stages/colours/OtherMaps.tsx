/** Values that the surface's other maps get where a step works: rust is rough, and no metal. */
import { X } from "lucide-react";
import { Slider, Small } from "./parts";

const ROLES = ["smoothness", "roughness", "metallic", "specular", "occlusion", "emission", "height"] as const;

export function OtherMaps({
  maps,
  onChange,
}: {
  maps: Record<string, number> | undefined;
  onChange: (maps: Record<string, number> | undefined) => void;
}) {
  const said = Object.entries(maps ?? {});
  const left = ROLES.filter((role) => maps?.[role] === undefined);
  const without = (role: string) => {
    const rest = said.filter(([other]) => other !== role);
    onChange(rest.length ? Object.fromEntries(rest) : undefined);
  };
  return (
    <div className="grid gap-2">
      {said.map(([role, value]) => (
        <div key={role} className="flex items-end gap-1">
          <div className="min-w-0 grow">
            <Slider
              label={`Its ${role} there`}
              value={value}
              from={0}
              to={1}
              onChange={(next) => onChange({ ...maps, [role]: next })}
            />
          </div>
          <Small name={`Leave ${role} as it is`} onClick={() => without(role)}>
            <X aria-hidden className="size-4" />
          </Small>
        </div>
      ))}
      <select
        aria-label="A value for another map of the surface"
        className="w-full rounded-lg border border-line bg-paper px-2 py-1 text-[13.5px] text-quiet"
        value=""
        onChange={({ target }) => onChange({ ...maps, [target.value]: 0.5 })}
      >
        <option value="">Other maps of the surface stay as they are</option>
        {left.map((role) => (
          <option key={role} value={role}>
            Give {role} a value there
          </option>
        ))}
      </select>
    </div>
  );
}
