import { describe, expect, it } from "vitest";
import type { Member } from "../../api/client";
import { Rows } from "../../lib/rows";
import { directionOf, nextOrder } from "./columns";
import { chosenOf, OnTable, ofSpansText, Places, spans, spansText, Typing } from "./selection";

const named = (place: number) => ({ name: `folder/item_${String(place).padStart(3, "0")}.ptx` }) as Member;

describe("the selection", () => {
  it("says places as spans", () => {
    expect(spans(new Set([7, 1, 0, 2, 9, 10]))).toEqual(["0-2", "7-7", "9-10"]);
    expect(spans(new Set())).toEqual([]);
    expect(chosenOf("all", 100_000)).toBe(100_000);
    expect(chosenOf(new Set([1, 5]), 9)).toBe(2);
  });
  it("is kept as text and read again", () => {
    expect(spansText(new Set([0, 1, 2, 7]))).toBe("0-2,7-7");
    expect(ofSpansText("0-2,7-7", 100)).toEqual(new Set([0, 1, 2, 7]));
    expect(ofSpansText("5-900000000", 8)).toEqual(new Set([5, 6, 7]));
    expect(ofSpansText("all", 9)).toBe("all");
    expect([spansText("all"), spansText(new Set([4])), ofSpansText("?", 3)]).toEqual(["all", "", new Set()]);
  });
  it("knows neighbours and ends of items that were never loaded", () => {
    const places = new Places(1_000_000, () => undefined);
    expect([places.getFirstKey(), places.getLastKey()]).toEqual([0, 999_999]);
    expect([places.getKeyBefore(0), places.getKeyAfter(999_999)]).toEqual([null, null]);
    expect(places.getItem(5)).toMatchObject({ key: 5, index: 5, textValue: "" });
    expect(places.getItem(1_000_000)).toBeNull();
    expect(new Places(0, () => undefined).getFirstKey()).toBeNull();
  });
  it("moves by rows and pages and stops at the ends", () => {
    const keys = new OnTable(new Places(23, named), new Rows(null, 23, 5), 3);
    expect([keys.getKeyBelow(1), keys.getKeyAbove(7), keys.getKeyRightOf(4)]).toEqual([6, 2, 5]);
    expect([keys.getKeyPageBelow(0), keys.getKeyPageBelow(20), keys.getKeyBelow(22)]).toEqual([15, 22, null]);
  });
  it("takes letters for one name until there is a rest", () => {
    const typing = new Typing();
    expect([typing.with("t", 0), typing.with("i", 300), typing.with(" ", 600)]).toEqual(["t", "ti", "ti "]);
    expect(typing.with("ArrowDown", 700)).toBeNull();
    expect(typing.with(" ", 5000)).toBeNull();
    expect(typing.with("/", 5050)).toBeNull();
    expect(typing.with("ö", 5100)).toBe("ö");
  });
});

describe("the heads of the list", () => {
  it("order by a column, and the other way round on the second click", () => {
    expect(nextOrder("name", "bytes")).toBe("bytes");
    expect(nextOrder("bytes", "bytes")).toBe("-bytes");
    expect(nextOrder("-bytes", "bytes")).toBe("bytes");
    expect(directionOf("bytes", { id: "bytes", down: true })).toBe("down");
    expect(directionOf("-bytes", { id: "bytes", down: true })).toBe("up");
    expect(directionOf("name", { id: "bytes", down: true })).toBeNull();
  });
});
