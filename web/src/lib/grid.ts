/** Where things lie on the light table. */

/** How many tiles of at least `tile` pixels fit a row. */
export function columnsFor(width: number, tile: number, gap: number): number {
  return Math.max(1, Math.floor((width + gap) / (tile + gap)));
}
