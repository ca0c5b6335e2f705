import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { client, type Edit, type Finding } from "../api/client";
import type { TextureDetails } from "../assets/texture/details";
import { Loss } from "../assets/texture/Loss";
import { Copyable } from "./controls";
import { Findings } from "./Findings";
import { Sheet } from "./Sheet";
import { StateMark } from "./StateMark";
import { useFirst } from "./useFirst";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const FINDING: Finding = {
  id: "alpha-lost",
  severity: "shows",
  title: "The transparency is gone",
  in_game: "A box shows around the picture.",
  sure: "certain",
  meant: false,
  others: [],
  remedy: {
    id: "restore-alpha",
    label: "Take the transparency from the original",
    applied: false,
    automatic: false,
  },
};

const DETAILS: TextureDetails = {
  kind: "texture",
  recipe: {
    container: "dds",
    format: "bc3",
    width: 4,
    height: 4,
    levels: 1,
    orientation: "top-down",
    alpha: "full",
    size: 144,
    packer: null,
    packing_level: null,
    shape: "2d",
    surfaces: 1,
    depth: 1,
    premultiplied: false,
    content: "colour",
    filter: "box",
    wrap: false,
    linear: true,
    levels_sure: 0,
    effort: "normal",
    perceptual: false,
  },
  choices: {},
  formats: ["bc1", "bc3"],
  precision: "8",
  width: 4,
  height: 4,
  mips: 1,
  most_mips: 1,
  own_mips: {},
  result_mips: 1,
  comparable: false,
  blocks_kept: 3,
  blocks: 9,
  quality: {
    psnr: 41.26,
    ssim: 0.99,
    ciede_mean: 0.4,
    ciede_99: 1.2,
    ciede_most: 3,
    angle: null,
    worst: [8, 4],
    worst_side: 4,
    worst_ciede: 2,
  },
};

function edit(change: Partial<Edit> = {}, findings: Finding[] = []): Edit {
  return {
    address: "a.kist//b.ptx",
    name: "b.ptx",
    kind: "texture",
    state: "ready",
    file: "/exchange/b.ptx.png",
    file_exists: true,
    fault: null,
    position: 1,
    built: false,
    steps: [
      { number: 1, what: "file came back", file_name: "b.png", remedies: [], made: "2026-01-01T00:00:00Z" },
    ],
    sheet: {
      properties: [
        { name: "Dimensions", original: "4 x 4", edit: "8 x 8", result: "8 x 8", same: false, matters: true },
      ],
      findings,
    },
    details: DETAILS,
    beside: {},
    marked: false,
    revision: "r",
    ...change,
  };
}

const shown = (node: React.ReactNode) =>
  render(<QueryClientProvider client={new QueryClient()}>{node}</QueryClientProvider>);

describe("findings", () => {
  it("say what the game would do and offer the remedy", async () => {
    const put = vi
      .spyOn(client, "PUT")
      .mockResolvedValue({ data: {}, response: new Response("{}") } as never);
    shown(<Findings project="p" edit={edit({}, [FINDING])} />);
    expect(screen.getByText("A box shows around the picture.")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Take the transparency from the original" }));
    await vi.waitFor(() => expect(put).toHaveBeenCalledOnce());
    expect(put.mock.calls[0]?.[1]).toMatchObject({ body: { remedies: ["restore-alpha"] } });
  });

  it("offer a remedy once where it puts several right", () => {
    const other = { ...FINDING, id: "alpha-soft", title: "Soft edges" };
    shown(<Findings project="p" edit={edit({}, [FINDING, other])} />);
    expect(screen.getAllByRole("button", { name: "Take the transparency from the original" })).toHaveLength(
      1,
    );
    expect(screen.getAllByRole("button", { name: "This is meant" })).toHaveLength(2);
  });

  it("that are meant stand aside, and can be taken back", async () => {
    const put = vi
      .spyOn(client, "PUT")
      .mockResolvedValue({ data: {}, response: new Response("{}") } as never);
    put.mockClear();
    shown(<Findings project="p" edit={edit({}, [{ ...FINDING, meant: true }])} />);
    expect(screen.queryByRole("button", { name: "This is meant" })).toBeNull();
    fireEvent.click(screen.getByRole("button", { name: "Not meant after all" }));
    await vi.waitFor(() => expect(put).toHaveBeenCalledOnce());
    expect(put.mock.calls[0]?.[1]).toMatchObject({ body: { finding: FINDING.id, scope: null } });
  });

  it("name what was put right by itself, without a button", () => {
    const automatic = {
      ...FINDING,
      id: "mip-count",
      remedy: {
        id: "make-mips" as const,
        label: "9 levels made from the picture",
        applied: true,
        automatic: true,
      },
    };
    shown(<Findings project="p" edit={edit({}, [automatic])} />);
    expect(screen.getByText("Nothing that the game would trip over.")).toBeTruthy();
    expect(screen.getByText("Put right by itself: 9 levels made from the picture.")).toBeTruthy();
    expect(screen.queryByRole("button")).toBeNull();
  });
});

describe("the match sheet", () => {
  it("shows what differs", () => {
    shown(<Sheet edit={edit()} />);
    expect(screen.getByText("Dimensions")).toBeTruthy();
    expect(screen.getAllByText("8 x 8")).toHaveLength(2);
  });
});

describe("the compression loss of a texture", () => {
  it("is said in words and numbers", () => {
    shown(<Loss edit={edit()} />);
    expect(screen.getByText(/3 of 9 blocks keep/)).toBeTruthy();
    expect(screen.getByText(/41\.3 dB/)).toBeTruthy();
  });
  it("is none where what is stored equals what was painted", () => {
    const none = { ...DETAILS.quality, psnr: null } as TextureDetails["quality"];
    shown(<Loss edit={edit({ details: { ...DETAILS, quality: none } })} />);
    expect(screen.getByText(/equals what was painted/)).toBeTruthy();
  });
});

describe("the state of an edit", () => {
  it.each([
    [edit(), "ready to build"],
    [edit({ built: true }), "built, in the game"],
    [edit({ state: "waiting" }), "waits for your file"],
    [edit({ state: "same" }), "as the original"],
    [edit({ state: "attention" }, [FINDING]), "1 finding"],
    [edit({ state: "ready", fault: "damaged" }), "file not readable"],
  ])("is a word", (one, words) => {
    shown(<StateMark edit={one} />);
    expect(screen.getByText(words)).toBeTruthy();
  });
});

describe("a value to copy", () => {
  it("is copied by one click", async () => {
    const writeText = vi.fn(async () => {});
    vi.stubGlobal("navigator", { clipboard: { writeText } });
    shown(<Copyable value="87428">85.4 KiB (87,428)</Copyable>);
    fireEvent.click(screen.getByRole("button"));
    expect(await screen.findByLabelText("copied")).toBeTruthy();
    expect(writeText).toHaveBeenCalledWith("87428");
  });
});

function Numbers({ to }: { to: number }) {
  const [shown, rest] = useFirst(
    Array.from({ length: to }, (_, place) => place),
    3,
  );
  return (
    <>
      <p>{shown.join(" ")}</p>
      {rest}
    </>
  );
}

describe("the first of many", () => {
  it("are shown, and the rest on demand", () => {
    render(<Numbers to={2000} />);
    screen.getByText("0 1 2");
    fireEvent.click(screen.getByRole("button", { name: "Show all 2,000" }));
    screen.getByText(/1999$/);
    expect(screen.queryByRole("button")).toBeNull();
  });
  it("are all of a few", () => {
    render(<Numbers to={3} />);
    screen.getByText("0 1 2");
    expect(screen.queryByRole("button")).toBeNull();
  });
});
