/** Numbers as people read them. */

const exactNumber = new Intl.NumberFormat("en");

/** 12345 → "12,345". */
export function count(value: number): string {
  return exactNumber.format(value);
}

/** Bytes rounded, in units of 1024: 87428 → "85.4 KiB". */
export function rounded(bytes: number): string {
  if (bytes < 1024) return `${bytes} B`;
  const units = ["KiB", "MiB", "GiB", "TiB"];
  let value = bytes / 1024;
  let unit = 0;
  while (value >= 1023.95 && unit < units.length - 1) {
    value /= 1024;
    unit += 1;
  }
  return `${value.toFixed(value < 10 ? 2 : 1)} ${units[unit]}`;
}

/** Bytes rounded, with the exact number beside: "85.4 KiB (87,428)". */
export function bytes(value: number): string {
  return value < 1024 ? `${value} bytes` : `${rounded(value)} (${count(value)})`;
}

/** A singular or plural word with its number: many(1, "file") → "1 file". */
export function many(value: number, word: string): string {
  return `${count(value)} ${word}${value === 1 ? "" : "s"}`;
}

/** The last step of a path. */
export function baseName(path: string): string {
  return path.slice(Math.max(path.lastIndexOf("/"), path.lastIndexOf("\\")) + 1);
}

/** Whether a job has not ended: it runs, or waits for its turn. */
export function isActive(job: { state: string }): boolean {
  return job.state === "running" || job.state === "waiting";
}

/** A job's progress in words: "1,200 of 3,000 members, 480 a second". */
export function progress(job: {
  done: number;
  total: number;
  unit: string;
  rate: number | null;
  waits_for?: string | null;
  doing?: string | null;
}): string {
  if (job.doing) return `${count(job.done)} of ${count(job.total)} ${job.unit}: ${job.doing}`;
  if (job.waits_for) return `waits until this is done: ${job.waits_for}`;
  const number = job.unit === "bytes" ? rounded : count;
  if (!job.total) return "starting";
  const rate = job.rate ? `, ${number(Math.round(job.rate))} a second` : "";
  const unit = job.unit === "bytes" ? "" : ` ${job.unit}`;
  return `${number(Math.min(job.done, job.total))} of ${number(job.total)}${unit}${rate}`;
}
