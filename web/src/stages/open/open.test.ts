import { expect, test } from "vitest";
import { partner } from "./Undescribed";

test("an index finds its data file by what their names share", () => {
  const files = ["data/a.idx", "data/a.idx.bin", "data/a.dat", "data/b.pak"];
  expect(partner("data/a.idx", files)).toBe("data/a.idx.bin");
  expect(partner("data/a.dat", files)).toBe("data/a.idx");
  expect(partner("data/b.pak", files)).toBeNull();
});
