/** Small controls used on every stage. */
import { Check, Copy } from "lucide-react";
import { ToggleGroup } from "radix-ui";
import { type ButtonHTMLAttributes, type ReactNode, useState } from "react";
import { toast } from "sonner";

const LOOKS = {
  act: "bg-gorse text-gorse-ink font-bold hover:brightness-105",
  plain: "bg-sunk text-ink hover:bg-line",
  quiet: "text-ink underline underline-offset-4 decoration-line hover:decoration-ink",
};

export function Button({
  look = "plain",
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { look?: keyof typeof LOOKS }) {
  return (
    <button
      type="button"
      className={`inline-flex items-center justify-center gap-2 rounded-lg px-3.5 py-1.5 whitespace-nowrap disabled:opacity-55 ${LOOKS[look]} ${className}`}
      {...rest}
    />
  );
}

/** One of a few, as a row of words. */
export function Choice<T extends string>({
  label,
  value,
  options,
  onChange,
}: {
  label: string;
  value: T;
  options: readonly (readonly [T, ReactNode])[];
  onChange: (value: T) => void;
}) {
  return (
    <ToggleGroup.Root
      type="single"
      aria-label={label}
      value={value}
      onValueChange={(next) => next && onChange(next as T)}
      className="inline-flex rounded-lg bg-sunk p-0.5"
    >
      {options.map(([id, words]) => (
        <ToggleGroup.Item
          key={id}
          value={id}
          className="rounded-md px-2.5 py-1 text-quiet hover:text-ink data-[state=on]:bg-raised data-[state=on]:font-bold data-[state=on]:text-ink"
        >
          {words}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}

/** A value that people copy: one click. */
export function Copyable({
  value,
  children,
  className = "",
}: {
  value: string;
  children?: ReactNode;
  className?: string;
}) {
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(value);
      setCopied(true);
      setTimeout(() => setCopied(false), 1500);
    } catch {
      toast.error("This browser does not let pages copy.");
    }
  };
  const Icon = copied ? Check : Copy;
  return (
    <button
      type="button"
      onClick={copy}
      title={`Copy ${value}`}
      className={`group inline-flex max-w-full items-center gap-1.5 rounded text-left hover:text-heather ${className}`}
    >
      <span className="min-w-0 [overflow-wrap:anywhere]">{children ?? value}</span>
      <Icon
        aria-label={copied ? "copied" : "copy"}
        className="size-3.5 shrink-0 text-quiet group-hover:text-heather"
      />
    </button>
  );
}

/** Names and values in two columns. */
export function Facts({ rows }: { rows: (readonly [string, ReactNode] | null)[] }) {
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
      {rows.map(
        (row) =>
          row && (
            <div key={row[0]} className="contents">
              <dt className="text-quiet">{row[0]}</dt>
              <dd className="min-w-0">{row[1]}</dd>
            </div>
          ),
      )}
    </dl>
  );
}

/** What a stage shows when there is nothing in it: what it is for and what to do. */
export function Empty({
  title,
  children,
  action,
}: {
  title: string;
  children: ReactNode;
  action?: ReactNode;
}) {
  return (
    <div className="mx-auto grid h-full max-w-lg place-content-center justify-items-start gap-3 p-8">
      <h1 className="text-[24px] font-bold">{title}</h1>
      <div className="text-quiet">{children}</div>
      {action}
    </div>
  );
}

/** A box to tick, with its words. */
export function Tick({
  title,
  checked,
  onChange,
  children,
}: {
  title: string;
  checked: boolean;
  onChange: (checked: boolean) => void;
  children: ReactNode;
}) {
  return (
    <label className="flex items-center gap-1.5 text-quiet" title={title}>
      <input
        type="checkbox"
        checked={checked}
        onChange={(event) => onChange(event.target.checked)}
        className="size-4 accent-heather"
      />
      {children}
    </label>
  );
}
