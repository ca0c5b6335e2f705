import { describe, expect, it } from "vitest";
import type { Project } from "../api/client";
import { nextAction, STAGES, waiting } from "./stages";

function project(counts: Partial<Project["counts"]>): Project {
  return {
    id: "skerry",
    name: "Skerry",
    folder: "/games/skerry",
    only: null,
    opened: "2026-01-01T00:00:00Z",
    files_seen: 3,
    layout_faults: [],
    archives: [],
    undescribed: [],
    loose_files: 0,
    counts: { members: 300, in_work: 0, attention: 0, ready: 0, built_files: 0, ...counts },
    standin: true,
    exchange: "/x",
    game: null,
    game_faults: [],
    searches: [],
  };
}

describe("the stages", () => {
  it("have an order and one name each", () => {
    expect(STAGES.map((stage) => stage.name)).toEqual(["Open", "Find", "Edit", "Check", "Build", "Try"]);
  });

  it("say what waits, and mark what is wrong", () => {
    const counts = waiting(project({ in_work: 4, attention: 1, ready: 2, built_files: 2 }));
    expect(counts.edit).toEqual({ number: 4, what: "being edited" });
    expect(counts.check).toEqual({ number: 1, what: "need attention", attention: true });
    expect(counts.build?.number).toBe(3);
    expect(counts.try?.number).toBe(2);
    expect(waiting(undefined)).toEqual({});
  });

  it.each([
    [undefined, "open"],
    [project({}), "find"],
    [project({ in_work: 1 }), "edit"],
    [project({ in_work: 2, ready: 1 }), "build"],
    [project({ in_work: 2, built_files: 1 }), "try"],
    [project({ in_work: 2, ready: 1, built_files: 1 }), "build"],
    [project({ in_work: 2, ready: 1, attention: 1 }), "check"],
  ] as const)("lead to the next useful action", (at, stage) => {
    expect(nextAction(at).stage).toBe(stage);
  });
});
