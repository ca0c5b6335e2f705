import { describe, expect, it } from "vitest";
import { fits, type Known, outcomeOf, standing, type Taken, type Trial } from "./words";

const known: Known = {
  layout: "a",
  title: "A",
  kind: "archive",
  place: "yours",
  archives: 3,
  proved: 3,
  contradicted: 0,
  differs: 0,
  versions: [],
};
const trial: Trial = { path: "a.x", outcome: "proved", members: 1, words: "", known: false, same: true };
const taken: Taken = {
  layout: "a",
  title: "A",
  version: "1",
  author: "",
  licence: "",
  about: "",
  tested: 1,
  recognised: 1,
  trials: [trial],
};

describe("layouts in words", () => {
  it("is good only where every archive is proved", () => {
    expect(standing(known)).toEqual({ words: "3 archives: 3 proved", good: true });
    expect(standing({ ...known, proved: 1, contradicted: 1, differs: 1 })).toEqual({
      words: "3 archives: 1 proved, 1 contradicted by their members, 1 read-only",
      good: false,
    });
    expect(standing({ ...known, proved: 2 }).words).toContain("1 not looked at yet");
    expect(standing({ ...known, archives: 0, proved: 0 }).good).toBeNull();
  });
  it("fits where it knows files and proves each", () => {
    expect(fits(taken)).toBe(true);
    expect(fits({ ...taken, trials: [] })).toBe(false);
    expect(fits({ ...taken, trials: [trial, { ...trial, outcome: "beginning" }] })).toBe(false);
  });
  it("says what a trial came to", () => {
    expect(outcomeOf(trial)).toBe("proved, 1 member");
    expect(outcomeOf({ ...trial, known: true })).toContain("where it was tested");
    expect(outcomeOf({ ...trial, outcome: "unreadable" })).toBe("cannot be read by it");
  });
});
