import { describe, expect, it } from "vitest";
import {
  called,
  inserted,
  joined,
  moved,
  type Neighbours,
  pieces,
  SHORTEST,
  saidAt,
  snapped,
  split,
  spread,
  type Track,
  without,
  wordOf,
} from "./pieces";

const word = (text: string, ...phonemes: [string, number, number][]) => ({
  text,
  start: phonemes[0]?.[1] ?? 0,
  end: phonemes.at(-1)?.[2] ?? 0,
  phonemes: phonemes.map(([code, start, end]) => ({ code, start, end })),
  spelt: false,
  doubtful: false,
});
const TRACK: Track = {
  seconds: 2,
  words: [
    word("rain", ["R", 0.1, 0.2], ["EY", 0.2, 0.4], ["N", 0.4, 0.5]),
    word("again", ["AH", 0.5, 0.7], ["G", 0.7, 0.8], ["EH", 0.8, 1], ["N", 1, 1.2]),
    word("now", ["N", 1.5, 1.6], ["AW", 1.6, 1.9]),
  ],
  said: true,
  notes: [],
};
const codes = (track: Track) => pieces(track, "phoneme").map((one) => ("code" in one ? one.code : ""));
const spans = (track: Track, level: "word" | "phoneme") =>
  pieces(track, level).map(({ start, end }) => [start, end]);

describe("moving", () => {
  it("takes touching neighbours along", () => {
    const made = moved(TRACK, "phoneme", 1, "end", 0.45, "follow", 2);
    expect(spans(made, "phoneme").slice(0, 3)).toEqual([
      [0.1, 0.2],
      [0.2, 0.45],
      [0.45, 0.5],
    ]);
    const across = moved(TRACK, "phoneme", 2, "end", 0.6, "follow", 2);
    expect(spans(across, "word").slice(0, 2)).toEqual([
      [0.1, 0.6],
      [0.6, 1.2],
    ]);
  });

  it("pushes neighbours away whole", () => {
    const made = moved(TRACK, "word", 0, "end", 1.3, "push", 3);
    expect(spans(made, "word")).toEqual([
      [0.1, 1.3],
      [1.3, 2],
      [2, 2.4],
    ]);
    expect(spans(made, "phoneme")[0]).toEqual([0.1, 0.4]);
  });

  it("leaves the others where they are", () => {
    const made = moved(TRACK, "phoneme", 0, "end", 0.35, "leave", 2);
    expect(spans(made, "phoneme").slice(0, 2)).toEqual([
      [0.1, 0.35],
      [0.2, 0.4],
    ]);
  });

  it("moves a word with its phonemes", () => {
    const made = moved(TRACK, "word", 2, null, 1.3, "follow", 2);
    expect(spans(made, "phoneme").slice(-2)).toEqual([
      [1.3, 1.4],
      [1.4, 1.7],
    ]);
  });

  it("never turns a piece round, nor lets it leave the sound", () => {
    for (const neighbours of ["follow", "push", "leave"] as Neighbours[])
      for (const level of ["word", "phoneme"] as const)
        for (let at = 0; at < pieces(TRACK, level).length; at++)
          for (const side of ["start", "end", null] as const)
            for (const seconds of [-5, 0, 0.3, 0.95, 1.55, 9]) {
              const made = moved(TRACK, level, at, side, seconds, neighbours, 2);
              expect(codes(made)).toEqual(codes(TRACK));
              const one = pieces(made, level)[at];
              expect(one?.start).toBeGreaterThanOrEqual(0);
              expect(one?.end).toBeLessThanOrEqual(2);
              for (const piece of pieces(made, level))
                expect(piece.end - piece.start).toBeGreaterThan(
                  neighbours === "push" ? -1e-9 : SHORTEST - 1e-3,
                );
            }
  });
});

it("splits, joins, removes and names", () => {
  expect(codes(split(TRACK, "phoneme", 1))).toEqual(["R", "EY", "EY", "N", "AH", "G", "EH", "N", "N", "AW"]);
  const halves = split(TRACK, "word", 1);
  expect(halves.words.map((one) => one.text)).toEqual(["rain", "aga", "in", "now"]);
  expect(halves.words[1]?.end).toBe(0.8);
  expect(codes(halves)).toEqual(codes(TRACK));
  expect(joined(halves, "word", 1)).toEqual(TRACK);
  expect(spans(joined(TRACK, "phoneme", 0), "phoneme")[0]).toEqual([0.1, 0.4]);
  expect(joined(TRACK, "phoneme", 2)).toEqual(TRACK);
  const short = without(without(TRACK, "phoneme", 8), "phoneme", 7);
  expect(short.words.map((one) => one.text)).toEqual(["rain", "again"]);
  expect(without(TRACK, "phoneme", 0).words[0]?.start).toBe(0.2);
  expect(codes(called(TRACK, "phoneme", 4, "K"))[4]).toBe("K");
  expect(called(TRACK, "word", 0, "snow").words[0]?.text).toBe("snow");
  expect(wordOf(TRACK, 3)).toEqual({ word: 1, place: 0 });
});

it("puts in and spreads evenly", () => {
  const within = inserted(TRACK, "S", 0.3);
  expect(codes(within).slice(0, 4)).toEqual(["R", "EY", "S", "N"]);
  expect(spans(within, "phoneme").slice(1, 3)).toEqual([
    [0.2, 0.3],
    [0.3, 0.4],
  ]);
  const outside = inserted(TRACK, "M", 1.45);
  expect(outside.words.map((one) => [one.text, one.start, one.end])[2]).toEqual(["", 1.45, 1.5]);
  expect(spans(spread(TRACK, 0), "phoneme").slice(0, 3)).toEqual([
    [0.1, 0.2333],
    [0.2333, 0.3667],
    [0.3667, 0.5],
  ]);
});

it("finds what is said, and what is near", () => {
  expect(saidAt(TRACK, 0.45)).toBe("N");
  expect(saidAt(TRACK, 1.3)).toBeNull();
  expect(snapped(0.5, [0.1, 0.49, 0.7], 0.02)).toBe(0.49);
  expect(snapped(0.55, [0.1, 0.49, 0.7], 0.02)).toBe(0.55);
});
