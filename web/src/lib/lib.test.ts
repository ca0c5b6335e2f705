import { describe, expect, it } from "vitest";
import { pictureNames } from "../assets/texture/pictures";
import { centred, fitting, LARGEST, SMALLEST, tiles, zoomAt } from "../assets/texture/viewport";
import { baseName, bytes, many, progress, rounded } from "./format";
import { columnsFor } from "./grid";
import { Rows } from "./rows";

describe("numbers", () => {
  it("shows bytes exactly beside the rounded figure", () => {
    expect(bytes(87428)).toBe("85.4 KiB (87,428)");
    expect(bytes(3)).toBe("3 bytes");
  });
  it("never shows 1024 of a unit", () => {
    expect(rounded(1024 * 1024 - 1)).toBe("1.00 MiB");
    expect(rounded(1023)).toBe("1023 B");
  });
  it("counts words", () => {
    expect(many(1, "file")).toBe("1 file");
    expect(many(1200, "file")).toBe("1,200 files");
  });
  it("tells progress with its rate", () => {
    expect(progress({ done: 1200, total: 3000, unit: "members", rate: 480.2 })).toBe(
      "1,200 of 3,000 members, 480 a second",
    );
    expect(progress({ done: 0, total: 0, unit: "", rate: null })).toBe("starting");
  });
  it("finds the last step of either kind of path", () => {
    expect(baseName("/a/b.png")).toBe("b.png");
    expect(baseName("C:\\a\\b.png")).toBe("b.png");
  });
});

describe("the view", () => {
  it("keeps the point under the pointer", () => {
    const view = { zoom: 2, x: 10, y: 20 };
    const at = { x: 110, y: 220 };
    const next = zoomAt(view, 4, at);
    const before = { x: (at.x - view.x) / view.zoom, y: (at.y - view.y) / view.zoom };
    expect((at.x - next.x) / next.zoom).toBeCloseTo(before.x);
    expect((at.y - next.y) / next.zoom).toBeCloseTo(before.y);
  });
  it("has limits", () => {
    expect(zoomAt({ zoom: 1, x: 0, y: 0 }, 1e9, { x: 0, y: 0 }).zoom).toBe(LARGEST);
    expect(zoomAt({ zoom: 1, x: 0, y: 0 }, 1e-9, { x: 0, y: 0 }).zoom).toBe(SMALLEST);
  });
  it("fits whole pixels where the picture is enlarged", () => {
    expect(fitting({ width: 64, height: 64 }, { width: 400, height: 300 }).zoom).toBe(4);
    expect(fitting({ width: 1000, height: 10 }, { width: 524, height: 524 }).zoom).toBeCloseTo(0.5);
  });
  it("centres", () => {
    expect(centred({ width: 100, height: 50 }, { width: 300, height: 150 }, 1)).toEqual({
      zoom: 1,
      x: 100,
      y: 50,
    });
  });
});

describe("the light table", () => {
  it("fills rows", () => {
    expect(columnsFor(1000, 150, 10)).toBe(6);
    expect(columnsFor(10, 150, 10)).toBe(1);
  });
  it("moves by the keyboard and stays inside", () => {
    const rows = new Rows(null, 100, 5);
    expect(rows.count).toBe(20);
    expect(rows.move("ArrowDown", 3, 4)).toBe(8);
    expect(rows.move("ArrowUp", 3, 4)).toBe(0);
    expect(rows.move("End", 3, 4)).toBe(99);
    expect(rows.move("PageDown", 3, 4)).toBe(23);
    expect(rows.move("x", 3, 4)).toBeNull();
    expect(new Rows(null, 0, 5).move("End", 0, 4)).toBeNull();
  });
  it("keeps groups apart, each below its heading", () => {
    const groups = [
      { name: "a", count: 7 },
      { name: "b", count: 1 },
      { name: "", count: 4 },
    ];
    const rows = new Rows(groups, 12, 3);
    expect(rows.count).toBe(4 + 2 + 3);
    expect([0, 4, 6].map((row) => rows.at(row))).toEqual([{ group: 0 }, { group: 1 }, { group: 2 }]);
    expect([rows.at(3), rows.at(5), rows.at(8)]).toEqual([
      { first: 6, last: 7 },
      { first: 7, last: 8 },
      { first: 11, last: 12 },
    ]);
    // Every item is in the row that says so.
    for (let item = 0; item < 12; item += 1) {
      const { row, column } = rows.of(item);
      expect(rows.at(row)).toMatchObject({ first: item - column });
    }
    expect([
      rows.move("ArrowDown", 5, 2),
      rows.move("ArrowDown", 6, 2),
      rows.move("ArrowDown", 7, 2),
    ]).toEqual([6, 7, 8]);
    expect([rows.move("ArrowUp", 8, 2), rows.move("ArrowUp", 7, 2), rows.move("PageUp", 11, 9)]).toEqual([
      7, 6, 0,
    ]);
    expect(rows.spanOf(0)).toEqual([0, 7]);
  });
});

describe("tiles of a large picture", () => {
  const picture = { width: 8192, height: 4096 };
  const pane = { width: 600, height: 500 };
  it("cover what the pane shows and nothing far outside it", () => {
    for (const zoom of [1 / 20, 0.3, 1, 4]) {
      for (const [x, y] of [
        [0, 0],
        [-700, -300],
        [40, 25],
      ] as const) {
        const found = tiles(picture, 0, { zoom, x, y }, pane);
        const left = Math.max(0, x);
        const right = Math.min(pane.width, x + picture.width * zoom);
        if (right <= left) continue;
        expect(Math.min(...found.map((tile) => tile.left))).toBeLessThanOrEqual(left);
        expect(Math.max(...found.map((tile) => tile.left + tile.width))).toBeGreaterThanOrEqual(right - 0.01);
        expect(found.length).toBeLessThanOrEqual(9);
        for (const tile of found) expect(tile.left).toBeLessThan(pane.width);
      }
    }
  });
  it("are asked for at the screen's own fineness", () => {
    expect(tiles(picture, 0, { zoom: 1 / 16, x: 0, y: 0 }, pane)[0]?.query).toBe("0,0,512,16");
    expect(tiles(picture, 0, { zoom: 2, x: -16384 + 600, y: 0 }, pane).at(-1)?.query).toBe("7680,0,512,1");
    expect(tiles(picture, 1, { zoom: 1, x: 0, y: 0 }, pane)[0]).toMatchObject({
      width: 1024,
      query: "0,0,512,1",
    });
  });
});

describe("the pictures of a texture", () => {
  it("have names where there are several", () => {
    expect(pictureNames({ shape: "2d", surfaces: 1, depth: 1 })).toEqual([]);
    expect(pictureNames({ shape: "cube", surfaces: 6, depth: 1 })).toEqual([
      "+X",
      "−X",
      "+Y",
      "−Y",
      "+Z",
      "−Z",
    ]);
    expect(pictureNames({ shape: "cube", surfaces: 12, depth: 1 })[7]).toBe("cube 2, −X");
    expect(pictureNames({ shape: "array", surfaces: 2, depth: 1 })).toEqual(["layer 1", "layer 2"]);
    expect(pictureNames({ shape: "volume", surfaces: 1, depth: 3 })[2]).toBe("slice 3");
  });
});
