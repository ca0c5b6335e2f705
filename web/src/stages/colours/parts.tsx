/** What the cards of colour steps are made of. */
import type { ReactNode } from "react";

export function Slider({
  label,
  value,
  from,
  to,
  step = 0.01,
  show = (number) => number.toFixed(2),
  ground,
  onChange,
}: {
  label: string;
  value: number;
  from: number;
  to: number;
  step?: number;
  show?: (value: number) => string;
  ground?: string;
  onChange: (value: number) => void;
}) {
  return (
    <label className="grid grid-cols-[8.5rem_1fr_3.2rem] items-center gap-2 text-[14px]">
      {label}
      <span className="grid min-w-0 gap-0.5">
        <input
          type="range"
          className="w-full accent-heather"
          min={from}
          max={to}
          step={step}
          value={value}
          onChange={(event) => onChange(Number(event.target.value))}
        />
        {ground && <span aria-hidden className="h-1.5 rounded-full" style={{ background: ground }} />}
      </span>
      <span className="text-right text-quiet tabular-nums">{show(value)}</span>
    </label>
  );
}

export function Small({
  name,
  disabled = false,
  onClick,
  children,
}: {
  name: string;
  disabled?: boolean;
  onClick: () => void;
  children: ReactNode;
}) {
  return (
    <button
      type="button"
      aria-label={name}
      title={name}
      disabled={disabled}
      className="grid size-7 shrink-0 place-items-center rounded-md text-quiet hover:bg-sunk hover:text-ink disabled:opacity-30"
      onClick={onClick}
    >
      {children}
    </button>
  );
}
