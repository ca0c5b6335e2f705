import { describe, expect, it } from "vitest";
import { type Areas, aligned, dragged, drawn, targetOf, wordsOf } from "./areas";

const SCREEN = {
  width: 96,
  height: 64,
  grid: 4,
  roles: [
    { id: "action", known: { 7: "opens" } },
    { id: "target", known: {} },
  ],
} as unknown as Areas;
const AREA = { x: 8, y: 8, width: 20, height: 12, numbers: { action: 7, target: 31 } };

describe("rectangles", () => {
  it("lead on where their action does", () => {
    const some = { ...SCREEN, leads: [7] } as Areas;
    expect(targetOf(AREA, some)).toBe(31);
    expect(targetOf({ ...AREA, numbers: { action: 9, target: 31 } }, some)).toBeUndefined();
    expect(targetOf({ ...AREA, numbers: { target: 31 } }, SCREEN)).toBe(31);
    expect(wordsOf({ ...AREA, numbers: { action: 9, target: 31 } }, some)).toBe("9");
  });
  it("move on the grid and stay on the screen", () => {
    expect(dragged(AREA, { x: 0, y: 0 }, 5, -3, SCREEN)).toMatchObject({
      x: 12,
      y: 4,
      width: 20,
      height: 12,
    });
    expect(dragged(AREA, { x: 0, y: 0 }, 500, 500, SCREEN)).toMatchObject({ x: 76, y: 52 });
  });
  it("are resized at the corner that is dragged, and never turn over", () => {
    expect(dragged(AREA, { x: 1, y: 1 }, 8, 4, SCREEN)).toMatchObject({ x: 8, y: 8, width: 28, height: 16 });
    expect(dragged(AREA, { x: -1, y: -1 }, 4, 4, SCREEN)).toMatchObject({
      x: 12,
      y: 12,
      width: 16,
      height: 8,
    });
    expect(dragged(AREA, { x: 1, y: 1 }, -90, -90, SCREEN)).toMatchObject({ width: 4, height: 4 });
    expect(dragged(AREA, { x: -1, y: 0 }, 90, 0, SCREEN)).toMatchObject({ x: 24, width: 4, height: 12 });
  });
  it("are drawn from either corner", () => {
    expect(drawn(30, 30, 9, 11, SCREEN)).toEqual({
      x: 8,
      y: 12,
      width: 24,
      height: 20,
      numbers: { action: 0, target: 0 },
    });
  });
  it("are aligned with the first that was chosen", () => {
    const other = { ...AREA, x: 40, y: 30, width: 8 };
    expect(aligned([AREA, other], [0, 1], "right")[1]).toMatchObject({ x: 20 });
    expect(aligned([AREA, other], [1], "left")[1]).toMatchObject({ x: 40 });
  });
  it("say what they do", () => {
    expect(wordsOf({ ...AREA, label: "ROW" }, SCREEN)).toBe("ROW opens → 31");
  });
});
