import { beforeEach, describe, expect, it } from "vitest";
import { keepDraft, keptDraft, workshopPath } from "./drafts";
import { hexOf, offsetOf, readings } from "./numbers";
import { wordsAt } from "./words";

describe("readings of bytes", () => {
  it("gives both byte orders, the sign and the text", () => {
    expect(readings(new Uint8Array([0x01, 0x02]))).toEqual([
      ["little-endian", "513"],
      ["big-endian", "258"],
    ]);
    expect(readings(new Uint8Array([0xff, 0xff, 0xff, 0xff]))).toContainEqual(["signed", "-1"]);
    expect(readings(new TextEncoder().encode("PIER"))).toContainEqual(["text", "PIER"]);
    expect(readings(new Uint8Array(9))).toEqual([]);
    expect(hexOf([0, 255])).toBe("00 FF");
    expect(offsetOf(4096)).toBe("0x1000");
  });
});

describe("drafts", () => {
  beforeEach(() => sessionStorage.clear());
  it("are kept by project and file", () => {
    keepDraft("a", "x/y.dat", "layout: y");
    expect(keptDraft("a", "x/y.dat")).toBe("layout: y");
    expect(keptDraft("b", "x/y.dat")).toBeNull();
    expect(workshopPath("a", "x/y.dat", "x/z.dat")).toBe("/p/a/workshop?file=x%2Fy.dat&data=x%2Fz.dat");
  });
});

describe("completion", () => {
  it("offers roles after role: and types after type:", () => {
    expect(wordsAt("      - {field: at, type: u32, role: o")).toContain("offset");
    expect(wordsAt("  - {field: at, type: u")).toContain("u32");
    expect(wordsAt("  - {field: at, type: u")).not.toContain("offset");
    expect(wordsAt("  - {fi")).toContain("field");
  });
});
