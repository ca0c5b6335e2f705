/** Where things lie on the light table. */

/** How many tiles of at least `tile` pixels fit a row. */
export function columnsFor(width: number, tile: number, gap: number): number {
  return Math.max(1, Math.floor((width + gap) / (tile + gap)));
}

/** The index after an arrow key, or null where the key is no movement. */
export function move(
  key: string,
  index: number,
  columns: number,
  total: number,
  page: number,
): number | null {
  const steps: Record<string, number> = {
    ArrowLeft: -1,
    ArrowRight: 1,
    ArrowUp: -columns,
    ArrowDown: columns,
    PageUp: -columns * page,
    PageDown: columns * page,
    Home: -total,
    End: total,
  };
  const step = steps[key];
  if (step === undefined) return null;
  return Math.min(total - 1, Math.max(0, index + step));
}
