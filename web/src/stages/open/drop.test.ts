import { expect, test } from "vitest";
import { droppedIn } from "./drop";

function dropped(list: string, files: { name: string; size: number }[] = []): DataTransfer {
  return {
    getData: (kind: string) => (kind === "text/uri-list" ? list : ""),
    files,
  } as unknown as DataTransfer;
}

test("an address that a file manager gives is taken", () => {
  // RFC 2483: lines end with CR LF, and lines that begin with # are remarks.
  expect(droppedIn(dropped("# a remark\r\nfile:///games/far%20isles\r\n"))?.path).toBe(
    "file:///games/far%20isles",
  );
});

test("where the browser keeps the place to itself, name and size are known", () => {
  expect(droppedIn(dropped("", [{ name: "cargo.crt", size: 12 }]))).toEqual({ name: "cargo.crt", size: 12 });
});

test("anything else is no file", () => {
  expect(droppedIn(dropped("https://example.org/"))).toBeNull();
  expect(droppedIn(dropped(""))).toBeNull();
});
