import { describe, expect, it } from "vitest";
import { bytesUrl, type Problem, previewUrl, take } from "./client";

describe("answers", () => {
  it("become data", async () => {
    const response = new Response("{}");
    expect(await take(Promise.resolve({ data: { a: 1 }, response }))).toEqual({ a: 1 });
  });

  it("become problems that say where and what to do", async () => {
    const error = {
      title: "Changed",
      detail: "This file was changed.",
      address: "a.kist",
      offset: 16,
      expected: "the original",
      remedy: "Open it again.",
    };
    const response = new Response("{}", { status: 409 });
    const problem = (await take(Promise.resolve({ error, response })).catch((caught) => caught)) as Problem;
    expect(problem.message).toBe("This file was changed. Expected the original.");
    expect(problem.where).toBe("a.kist, offset 16");
    expect(problem.remedy).toBe("Open it again.");
  });

  it("say it when nobody answers", async () => {
    const problem = (await take(Promise.reject(new TypeError("failed"))).catch(
      (caught) => caught,
    )) as Problem;
    expect(problem.title).toBe("No answer");
  });
});

describe("addresses", () => {
  it("are quoted, and leave out what is not asked for", () => {
    const url = previewUrl("p", "a b//c&d.ptx", { which: "edit", level: 0, revision: undefined });
    expect(url).toBe("/api/projects/p/preview?address=a+b%2F%2Fc%26d.ptx&which=edit&level=0");
    expect(bytesUrl("p", "x", true)).toContain("download=true");
  });
});
