/** Words and phonemes on a time axis: what happens to the others when one is moved, split, joined or put in. */
import type { Schemas } from "../../api/client";

export type Track = Schemas["Track"];
export type Word = Schemas["Word"];
export type Phoneme = Schemas["Phoneme"];
export type Level = "word" | "phoneme";
/** What neighbours do: touching ones keep touching, or are pushed away whole, or nothing. */
export type Neighbours = "follow" | "push" | "leave";
export type Side = "start" | "end";
type Piece = { start: number; end: number };

/** Seconds that the shortest piece lasts, and within which two edges are one. */
export const SHORTEST = 0.01;
const TOUCHES = 0.0015;

const between = (low: number, value: number, high: number) => Math.max(low, Math.min(value, high));
const tidy = (seconds: number) => Math.round(seconds * 10_000) / 10_000;

/** The pieces of a level, in order. */
export function pieces(track: Track, level: Level): (Word | Phoneme)[] {
  return level === "word" ? track.words : track.words.flatMap((word) => word.phonemes);
}

/** The words, and of which word a phoneme is, by its place among all. */
export function wordOf(track: Track, phoneme: number): { word: number; place: number } {
  let before = 0;
  for (const [word, { phonemes }] of track.words.entries()) {
    if (phoneme < before + phonemes.length) return { word, place: phoneme - before };
    before += phonemes.length;
  }
  return { word: -1, place: -1 };
}

/** The place among all phonemes of a word's first one. */
export function firstOf(track: Track, word: number): number {
  return track.words.slice(0, word).reduce((sum, one) => sum + one.phonemes.length, 0);
}

/** A track whose pieces of a level have other times: a word takes its phonemes along, phonemes their word. */
function put(track: Track, level: Level, times: Piece[]): Track {
  if (level === "word")
    return {
      ...track,
      words: track.words.map((word, number) => {
        const { start, end } = times[number] ?? word;
        const scale = word.end > word.start ? (end - start) / (word.end - word.start) : 1;
        const there = (seconds: number) => tidy(start + (seconds - word.start) * scale);
        return {
          ...word,
          start: tidy(start),
          end: tidy(end),
          phonemes: word.phonemes.map((one) => ({ ...one, start: there(one.start), end: there(one.end) })),
        };
      }),
    };
  let at = 0;
  return {
    ...track,
    words: track.words.map((word) => {
      const phonemes = word.phonemes.map((one) => {
        const { start, end } = times[at++] ?? one;
        return { ...one, start: tidy(start), end: tidy(end) };
      });
      return fitted({ ...word, phonemes });
    }),
  };
}

/** A word as long as its phonemes. */
function fitted(word: Word): Word {
  if (!word.phonemes.length) return word;
  return {
    ...word,
    start: Math.min(...word.phonemes.map((one) => one.start)),
    end: Math.max(...word.phonemes.map((one) => one.end)),
  };
}

/** What is before and behind ``at`` moves out of the way of it. */
function pushed(list: Piece[], at: number): Piece[] {
  const found = list.map((one) => ({ ...one }));
  for (let here = at - 1; here >= 0; here--) {
    const [one, next] = [found[here], found[here + 1]];
    if (!one || !next || one.end <= next.start) break;
    const length = one.end - one.start;
    one.end = Math.max(next.start, 0);
    one.start = Math.max(one.end - length, 0);
  }
  for (let here = at + 1; here < found.length; here++) {
    const [one, before] = [found[here], found[here - 1]];
    if (!one || !before || one.start >= before.end) break;
    const length = one.end - one.start;
    one.start = before.end;
    one.end = one.start + length;
  }
  return found;
}

/** The edges that touch go along; what is reached gives way, down to the shortest. */
function followed(before: Piece[], list: Piece[], at: number): Piece[] {
  const found = list.map((one) => ({ ...one }));
  const [was, now, left, right] = [before[at], found[at], found[at - 1], found[at + 1]];
  if (!was || !now) return found;
  const low = left ? left.start + SHORTEST : 0;
  const high = right ? right.end - SHORTEST : Number.POSITIVE_INFINITY;
  const length = now.end - now.start;
  const whole = now.start !== was.start && now.end !== was.end;
  now.start = between(low, now.start, whole ? Math.max(high - length, low) : was.end - SHORTEST);
  now.end = whole ? Math.min(now.start + length, high) : Math.min(now.end, high);
  if (left && (Math.abs(left.end - was.start) < TOUCHES || left.end > now.start)) left.end = now.start;
  if (right && (Math.abs(right.start - was.end) < TOUCHES || right.start < now.end)) right.start = now.end;
  return found;
}

/** One edge of a piece at another time, or (without a side) the whole piece begun then. */
export function moved(
  track: Track,
  level: Level,
  at: number,
  side: Side | null,
  seconds: number,
  neighbours: Neighbours,
  longest: number,
): Track {
  const before: Piece[] = pieces(track, level).map(({ start, end }) => ({ start, end }));
  const list = before.map((one) => ({ ...one }));
  const one = list[at];
  if (!one) return track;
  if (side === "start") one.start = between(0, seconds, one.end - SHORTEST);
  else if (side === "end") one.end = between(one.start + SHORTEST, seconds, longest);
  else {
    const length = one.end - one.start;
    one.start = between(0, seconds, Math.max(longest - length, 0));
    one.end = one.start + length;
  }
  const made =
    neighbours === "follow" ? followed(before, list, at) : neighbours === "push" ? pushed(list, at) : list;
  return put(track, level, made);
}

/** A word's phonemes, all as long as each other. */
export function spread(track: Track, word: number): Track {
  return changed(track, word, (one) => {
    const step = (one.end - one.start) / Math.max(one.phonemes.length, 1);
    return {
      ...one,
      phonemes: one.phonemes.map((phoneme, place) => ({
        ...phoneme,
        start: tidy(one.start + place * step),
        end: tidy(one.start + (place + 1) * step),
      })),
    };
  });
}

function changed(track: Track, word: number, make: (word: Word) => Word): Track {
  return { ...track, words: track.words.map((one, number) => (number === word ? make(one) : one)) };
}

/** A piece called otherwise. */
export function called(track: Track, level: Level, at: number, name: string): Track {
  if (level === "word") return changed(track, at, (word) => ({ ...word, text: name }));
  const { word, place } = wordOf(track, at);
  return changed(track, word, (one) => ({
    ...one,
    phonemes: one.phonemes.map((phoneme, number) =>
      number === place ? { ...phoneme, code: name } : phoneme,
    ),
  }));
}

/** A piece as two: a word between two of its phonemes nearest to the middle, a phoneme in the middle. */
export function split(track: Track, level: Level, at: number): Track {
  if (level === "phoneme") {
    const { word, place } = wordOf(track, at);
    return changed(track, word, (one) => {
      const phoneme = one.phonemes[place];
      if (!phoneme) return one;
      const middle = tidy((phoneme.start + phoneme.end) / 2);
      const halves = [
        { ...phoneme, end: middle },
        { ...phoneme, start: middle },
      ];
      return { ...one, phonemes: one.phonemes.toSpliced(place, 1, ...halves) };
    });
  }
  const word = track.words[at];
  if (!word) return track;
  const middle = (word.start + word.end) / 2;
  const cuts = word.phonemes.slice(1).map((one) => one.start);
  const cut = cuts.toSorted((a, b) => Math.abs(a - middle) - Math.abs(b - middle))[0] ?? tidy(middle);
  const letters = Math.ceil(word.text.length / 2);
  const parts = [
    {
      ...word,
      text: word.text.slice(0, letters),
      end: cut,
      phonemes: word.phonemes.filter((one) => one.start < cut),
    },
    {
      ...word,
      text: word.text.slice(letters),
      start: cut,
      phonemes: word.phonemes.filter((one) => one.start >= cut),
    },
  ];
  return { ...track, words: track.words.toSpliced(at, 1, ...parts) };
}

/** A piece and the next one as one. */
export function joined(track: Track, level: Level, at: number): Track {
  if (level === "word") {
    const [one, next] = [track.words[at], track.words[at + 1]];
    if (!one || !next) return track;
    const word = {
      ...one,
      text: `${one.text}${next.text}`,
      end: Math.max(one.end, next.end),
      phonemes: [...one.phonemes, ...next.phonemes],
    };
    return { ...track, words: track.words.toSpliced(at, 2, word) };
  }
  const { word, place } = wordOf(track, at);
  return changed(track, word, (one) => {
    const [phoneme, next] = [one.phonemes[place], one.phonemes[place + 1]];
    if (!phoneme || !next) return one;
    return { ...one, phonemes: one.phonemes.toSpliced(place, 2, { ...phoneme, end: next.end }) };
  });
}

/** Without a piece; a word without phonemes goes with its last one. */
export function without(track: Track, level: Level, at: number): Track {
  if (level === "word") return { ...track, words: track.words.toSpliced(at, 1) };
  const { word, place } = wordOf(track, at);
  const made = changed(track, word, (one) => fitted({ ...one, phonemes: one.phonemes.toSpliced(place, 1) }));
  return { ...made, words: made.words.filter((one, number) => number !== word || one.phonemes.length > 0) };
}

/** A phoneme put in at a time: it takes the second half of the one that is there, or begins a word of its own. */
export function inserted(track: Track, code: string, seconds: number): Track {
  const word = track.words.findIndex((one) => one.start <= seconds && seconds < one.end);
  const own = track.words[word];
  if (!own) {
    const end = Math.min(
      seconds + 0.1,
      ...track.words.filter((one) => one.start > seconds).map((one) => one.start),
    );
    const made = { text: "", start: tidy(seconds), end: tidy(end), spelt: false, doubtful: false };
    const fresh = { ...made, phonemes: [{ code, start: made.start, end: made.end }] };
    return { ...track, words: [...track.words, fresh].toSorted((a, b) => a.start - b.start) };
  }
  const place = own.phonemes.findIndex((one) => one.start <= seconds && seconds < one.end);
  const there = own.phonemes[place];
  const begin = there
    ? between(there.start + SHORTEST, seconds, Math.max(there.end - SHORTEST, there.start + SHORTEST))
    : seconds;
  const next = own.phonemes.find((one) => one.start > seconds);
  const end = there ? Math.max(there.end, begin + SHORTEST) : (next?.start ?? own.end);
  const phonemes = own.phonemes.map((one, number) => (number === place ? { ...one, end: tidy(begin) } : one));
  const fresh = { code, start: tidy(begin), end: tidy(end) };
  return changed(track, word, (one) =>
    fitted({ ...one, phonemes: [...phonemes, fresh].toSorted((a, b) => a.start - b.start) }),
  );
}

/** The nearest of some times, if it is near enough; else the time itself. */
export function snapped(seconds: number, times: number[], within: number): number {
  const near = times.reduce<number | null>(
    (best, one) => (best === null || Math.abs(one - seconds) < Math.abs(best - seconds) ? one : best),
    null,
  );
  return near !== null && Math.abs(near - seconds) <= within ? near : seconds;
}

/** What the mouth does at a time: the phoneme that is being said. */
export function saidAt(track: Track, seconds: number): string | null {
  for (const word of track.words)
    for (const one of word.phonemes) if (one.start <= seconds && seconds < one.end) return one.code;
  return null;
}
