/** Guesses in words and as addresses of pictures. */
import type { Schemas } from "../../api/client";

type Guess = Schemas["Guess"];

type Storage = NonNullable<Guess["storage"]>;

function order(part: Partial<Storage>): Storage {
  return { tiles: [], pitch: 1, split: [], align: 1, ...part };
}

/** Orders of pixels by a short name. */
export const STORAGES: Record<string, { name: string; storage: Storage | null }> = {
  rows: { name: "row by row", storage: null },
  morton: { name: "Morton order", storage: order({ morton: "x-first" }) },
  ...Object.fromEntries(
    (
      [
        [4, 4],
        [8, 4],
        [8, 8],
        [16, 8],
      ] as const
    ).map(([columns, rows]) => [
      `${columns}x${rows}`,
      {
        name: `tiles of ${columns} × ${rows}`,
        storage: order({ tiles: [{ columns, rows, order: "rows" }] }),
      },
    ]),
  ),
};

/** Which of these orders a guess has. */
export function storageOf(guess: Guess): string {
  const { storage } = guess;
  if (!storage) return "rows";
  if (storage.morton) return "morton";
  const tile = storage.tiles?.length === 1 ? storage.tiles[0] : undefined;
  const id = tile ? `${tile.columns}x${tile.rows}` : "";
  return id in STORAGES ? id : "other";
}

/** A guess in a few words; two that look alike have the same. */
export function words(guess: Guess): string {
  const place = guess.offset ? `, from ${guess.offset}` : "";
  const colours = guess.palette ? `, colours ${guess.palette.format} at ${guess.palette.at}` : "";
  const order = guess.storage ? `, ${STORAGES[storageOf(guess)]?.name ?? "in tiles"}` : "";
  return `${guess.width} × ${guess.height} ${guess.format}, ${guess.levels} levels${order}${place}${colours}`;
}

/** The address of a guess's picture. */
export function guessUrl(project: string, address: string, guess: Guess, fit: number): string {
  const query = new URLSearchParams({ address, guess: JSON.stringify(guess), fit: String(fit) });
  return `/api/projects/${encodeURIComponent(project)}/texture/guesses/preview?${query}`;
}
