/** One colour step: what it changes, how much of it, and where. */
import { ArrowDown, ArrowUp, Plus, X } from "lucide-react";
import { baseName } from "../../lib/format";
import { OtherMaps } from "./OtherMaps";
import { Slider, Small } from "./parts";
import { CHANGES, type Change, changeOf, HUES, type Mask, type Step } from "./steps";

type Props = {
  step: Step;
  place: number;
  many: number;
  addresses: string[];
  onChange: (step: Step) => void;
  onMove: (by: number) => void;
  onRemove: () => void;
};

export function StepCard({ step, place, many, addresses, onChange, onMove, onRemove }: Props) {
  const change = changeOf(step);
  const { title, hint } = CHANGES[change];
  const set = (value: unknown) => onChange({ ...step, [change]: value });
  return (
    <li className="grid gap-2.5 rounded-xl bg-raised p-3.5" aria-label={`Step ${place + 1}: ${title}`}>
      <div className="flex items-start gap-1">
        <div className="min-w-0 grow leading-tight">
          <h3 className="font-bold">{title}</h3>
          <p className="text-[13.5px] text-quiet">{hint}</p>
        </div>
        <Small name="Earlier" disabled={place === 0} onClick={() => onMove(-1)}>
          <ArrowUp aria-hidden className="size-4" />
        </Small>
        <Small name="Later" disabled={place === many - 1} onClick={() => onMove(1)}>
          <ArrowDown aria-hidden className="size-4" />
        </Small>
        <Small name="Take this step away" onClick={onRemove}>
          <X aria-hidden className="size-4" />
        </Small>
      </div>
      <Value change={change} value={step[change]} addresses={addresses} onChange={set} />
      <Slider
        label="How much of it"
        value={step.amount ?? 1}
        from={0}
        to={1}
        show={(value) => `${Math.round(value * 100)} %`}
        onChange={(amount) => onChange({ ...step, amount })}
      />
      <Where mask={step.mask} onChange={(mask) => onChange({ ...step, mask })} />
      <OtherMaps maps={step.maps} onChange={(maps) => onChange({ ...step, maps })} />
    </li>
  );
}

function Value({
  change,
  value,
  addresses,
  onChange,
}: {
  change: Change;
  value: unknown;
  addresses: string[];
  onChange: (value: unknown) => void;
}) {
  switch (change) {
    case "hue":
      return (
        <Slider
          label="Degrees"
          value={value as number}
          from={-180}
          to={180}
          step={1}
          show={(degrees) => `${degrees}°`}
          onChange={onChange}
        />
      );
    case "saturation":
      return <Slider label="Times" value={value as number} from={0} to={3} onChange={onChange} />;
    case "lightness":
      return <Slider label="Added" value={value as number} from={-0.5} to={0.5} onChange={onChange} />;
    case "levels":
      return <Levels value={value as Record<string, number>} onChange={onChange} />;
    case "tint":
      return <Colour label="The tint" value={value as string} onChange={onChange} />;
    case "gradient":
      return <Strip colours={value as string[]} onChange={onChange} />;
    case "hues":
      return <SomeHues value={value as { from: [number, number]; to: number }} onChange={onChange} />;
    case "colours":
      return <Exchange pairs={Object.entries(value as Record<string, string>)} onChange={onChange} />;
    case "like":
      return (
        <select
          aria-label="The picture whose colours are taken"
          className="w-full rounded-lg border border-line bg-paper px-2 py-1.5"
          value={value as string}
          onChange={(event) => onChange(event.target.value)}
        >
          <option value="">Choose one of these pictures</option>
          {(addresses.includes(value as string) || !value ? addresses : [value as string, ...addresses]).map(
            (address) => (
              <option key={address} value={address}>
                {baseName(address)}
              </option>
            ),
          )}
        </select>
      );
    default:
      return <p className="text-[13.5px] text-quiet">Its points are changed in the text below.</p>;
  }
}

const LEVELS: [string, string, number, number, number][] = [
  ["black", "Becomes black", 0, 0, 0.95],
  ["white", "Becomes white", 1, 0.05, 1],
  ["gamma", "The middle", 1, 0.2, 4],
  ["darkest", "Darkest after it", 0, 0, 1],
  ["lightest", "Lightest after it", 1, 0, 1],
];

function Levels({ value, onChange }: { value: Record<string, number>; onChange: (value: unknown) => void }) {
  const set = (name: string, number: number) => {
    const next = { ...value, [name]: number };
    // Black stays below white, whichever of the two is moved.
    if (name === "black") next.white = Math.max(next.white ?? 1, number + 0.05);
    if (name === "white") next.black = Math.min(next.black ?? 0, number - 0.05);
    onChange(next);
  };
  return (
    <>
      {LEVELS.map(([name, label, usual, from, to]) => (
        <Slider
          key={name}
          label={label}
          value={value[name] ?? usual}
          from={from}
          to={to}
          onChange={(number) => set(name, number)}
        />
      ))}
    </>
  );
}

function Strip({ colours, onChange }: { colours: string[]; onChange: (value: unknown) => void }) {
  return (
    <div className="grid gap-2">
      <div
        aria-hidden
        className="h-5 rounded"
        style={{ background: `linear-gradient(in oklab to right, ${colours.join(", ")})` }}
      />
      <div className="flex flex-wrap items-center gap-1.5">
        {colours.map((colour, at) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: a colour is its place; two may be alike
          <span key={`${at}-${colours.length}`} className="flex items-center">
            <Pick
              label={`Colour ${at + 1}`}
              value={colour}
              onChange={(next) => onChange(colours.map((one, other) => (other === at ? next : one)))}
            />
            {colours.length > 2 && (
              <Small
                name={`Take colour ${at + 1} away`}
                onClick={() => onChange(colours.filter((_, other) => other !== at))}
              >
                <X aria-hidden className="size-3.5" />
              </Small>
            )}
          </span>
        ))}
        <Small name="One colour more" onClick={() => onChange([...colours, "#ffffff"])}>
          <Plus aria-hidden className="size-4" />
        </Small>
      </div>
    </div>
  );
}

function SomeHues({
  value,
  onChange,
}: {
  value: { from: [number, number]; to: number };
  onChange: (value: unknown) => void;
}) {
  const degrees = (number: number) => `${number}°`;
  const hue = { from: 0, to: 360, step: 1, show: degrees, ground: HUES };
  return (
    <>
      <Slider
        label="From"
        value={value.from[0]}
        {...hue}
        onChange={(low) => onChange({ ...value, from: [low, value.from[1]] })}
      />
      <Slider
        label="To"
        value={value.from[1]}
        {...hue}
        onChange={(high) => onChange({ ...value, from: [value.from[0], high] })}
      />
      <Slider label="Become" value={value.to} {...hue} onChange={(to) => onChange({ ...value, to })} />
    </>
  );
}

function Exchange({ pairs, onChange }: { pairs: [string, string][]; onChange: (value: unknown) => void }) {
  const set = (at: number, pair: [string, string]) =>
    onChange(Object.fromEntries(pairs.map((one, other) => (other === at ? pair : one))));
  return (
    <div className="grid justify-items-start gap-1.5">
      {pairs.map(([before, after], at) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a pair is its place; its colours change under the hand
        <div key={`${at}-${pairs.length}`} className="flex items-center gap-2">
          <Pick
            label={`Colour ${at + 1} before`}
            value={before}
            onChange={(next) => set(at, [next, after])}
          />
          becomes
          <Pick label={`Colour ${at + 1} after`} value={after} onChange={(next) => set(at, [before, next])} />
          {pairs.length > 1 && (
            <Small
              name={`Take pair ${at + 1} away`}
              onClick={() => onChange(Object.fromEntries(pairs.filter((_, other) => other !== at)))}
            >
              <X aria-hidden className="size-3.5" />
            </Small>
          )}
        </div>
      ))}
      <Small name="One pair more" onClick={() => onChange(Object.fromEntries([...pairs, unused(pairs)]))}>
        <Plus aria-hidden className="size-4" />
      </Small>
    </div>
  );
}

/** A pair whose first colour is none of the others. */
function unused(pairs: [string, string][]): [string, string] {
  const taken = new Set(pairs.map(([before]) => before));
  let number = 0xffffff;
  while (taken.has(`#${number.toString(16).padStart(6, "0")}`)) number -= 1;
  return [`#${number.toString(16).padStart(6, "0")}`, "#8a4b2c"];
}

function Where({ mask, onChange }: { mask: Mask | undefined; onChange: (mask: Mask | undefined) => void }) {
  if (!mask)
    return (
      <button
        type="button"
        className="justify-self-start text-[14px] text-quiet underline underline-offset-4"
        onClick={() => onChange({ light: [0, 1] })}
      >
        Only in some parts
      </button>
    );
  const light = mask.light ?? [0, 1];
  const hues = mask.hues;
  return (
    <fieldset className="grid gap-2 rounded-lg border border-line p-2.5">
      <legend className="px-1 text-[14px] font-bold">Only where it is</legend>
      <Slider
        label="At least as light as"
        value={light[0]}
        from={0}
        to={1}
        onChange={(low) => onChange({ ...mask, light: [low, Math.max(light[1], low)] })}
      />
      <Slider
        label="At most as light as"
        value={light[1]}
        from={0}
        to={1}
        onChange={(high) => onChange({ ...mask, light: [Math.min(light[0], high), high] })}
      />
      <label className="flex items-center gap-2 text-[14px]">
        <input
          type="checkbox"
          className="accent-heather"
          checked={hues !== undefined}
          onChange={(event) => onChange({ ...mask, hues: event.target.checked ? [220, 300] : undefined })}
        />
        and of some hues
      </label>
      {hues && (
        <>
          <Slider
            label="From"
            value={hues[0]}
            from={0}
            to={360}
            step={1}
            show={(value) => `${value}°`}
            ground={HUES}
            onChange={(low) => onChange({ ...mask, hues: [low, hues[1]] })}
          />
          <Slider
            label="To"
            value={hues[1]}
            from={0}
            to={360}
            step={1}
            show={(value) => `${value}°`}
            ground={HUES}
            onChange={(high) => onChange({ ...mask, hues: [hues[0], high] })}
          />
        </>
      )}
      <label className="flex items-center gap-2 text-[14px]">
        <input
          type="checkbox"
          className="accent-heather"
          checked={mask.inverted ?? false}
          onChange={(event) => onChange({ ...mask, inverted: event.target.checked || undefined })}
        />
        everywhere else instead
      </label>
      <button
        type="button"
        className="justify-self-start text-[14px] text-quiet underline underline-offset-4"
        onClick={() => onChange(undefined)}
      >
        Everywhere
      </button>
    </fieldset>
  );
}

type PickProps = { label: string; value: string; onChange: (value: string) => void };

function Colour(props: PickProps) {
  return (
    <div className="flex items-center gap-2 text-[14px]">
      <Pick {...props} />
      <code className="text-quiet">{props.value}</code>
    </div>
  );
}

function Pick({ label, value, onChange }: PickProps) {
  return (
    <input
      type="color"
      aria-label={label}
      title={`${label}: ${value}`}
      className="h-8 w-11 cursor-pointer rounded border border-line bg-paper"
      value={value}
      onChange={(event) => onChange(event.target.value)}
    />
  );
}
