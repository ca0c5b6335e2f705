"""The disc edition: the postwoman is dressed anew from a moving file, and a menu's buttons move to the top."""

from __future__ import annotations

import base64
import io
import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Page, expect

from brae.demo import stamps, strollers
from tests.e2e.driver import base, chromium, served
from tests.e2e.homes import moved, opened_home
from tests.e2e.tour import DISC, open_folder, stage, wait_for_jobs

pytestmark = [pytest.mark.browser]
POSTWOMAN = "skerry.bin//CARGO.VOL//POSTWOM.STR"
WHITE = (240, 240, 240, 255)


@pytest.fixture
def page(tmp_path: Path, made_demo: Path, whole_disc: Path) -> Iterator[Page]:
    # The whole disc: the game in the trial reads screens that a small one has not.
    kept = opened_home(made_demo.parents[1] / "brae-whole-home", made_demo, whole_disc)
    home = moved(kept, tmp_path / "home")
    with chromium() as browser, served(home, "demo") as address:
        context = browser.new_context(
            viewport={"width": 1280, "height": 800}, base_url=base(address), reduced_motion="reduce"
        )
        page = context.new_page()
        faults: list[str] = []
        page.on("pageerror", lambda error: faults.append(str(error)))
        page.goto(address)
        page.get_by_role("button", name="Go to the demo game").click(timeout=60_000)
        wait_for_jobs(page)
        yield page
        context.close()
        assert faults == []


def asked(page: Page, path: str) -> Any:
    """What the server answers about the postwoman."""
    url = f"/api/projects/skerry-post-disc-edition/{path}"
    return json.loads(page.evaluate("url => fetch(url).then(answer => answer.text())", url))


def dressed(sheet: np.ndarray, told: dict[str, Any], wrong: int) -> bytes:
    """A GIF of the first walk, a white band on the hat; in one frame a pixel too low."""
    width, height, columns = told["width"], told["height"], told["columns"]
    frames = []
    for number in [step["frame"] for step in told["sequences"][0]["steps"]]:
        y, x = number // columns * height, number % columns * width
        cell = sheet[y : y + height, x : x + width].copy()
        top = int(np.flatnonzero(cell[..., 3].any(axis=1))[0]) + 3 + (number == wrong)
        seen = np.flatnonzero(cell[top, :, 3])
        cell[top : top + 2, seen[0] - 1 : seen[-1] + 2] = WHITE
        frames.append(Image.fromarray(cell))
    stream = io.BytesIO()
    frames[0].save(stream, "GIF", save_all=True, append_images=frames[1:], duration=120, loop=0, disposal=2)
    return stream.getvalue()


def editing(page: Page, name: str) -> None:
    """Put an item in work, and see its page."""
    page.goto(f"{DISC}/find?q={name}&item=skerry.bin%2F%2FCARGO.VOL%2F%2F{name}")
    page.get_by_role("button", name="Edit this").click()
    page.get_by_role("region", name=f"Editing {name}").wait_for()


def one_palette_for_the_scene(page: Page) -> None:
    """Her white is not in the palette: shared out anew it is, and everybody else looks as before."""
    page.get_by_text("not in the palette", exact=False).first.wait_for()
    editing(page, "HARBOUR.COL")
    page.get_by_role("button", name="Best for all its pictures").click()
    expect(page.get_by_text("the best for 5 pictures")).to_be_visible(timeout=60_000)
    wait_for_jobs(page)
    expect(page.get_by_text("ready to build").first).to_be_visible()
    page.goto(f"{DISC}/edit?item={POSTWOMAN}")
    page.get_by_role("region", name="Editing POSTWOM.STR").wait_for()
    (woman,) = (one for one in asked(page, "edits") if one["address"] == POSTWOMAN)
    told = {one["id"]: one["severity"] for one in woman["sheet"]["findings"]}
    assert told.get("outside-palette", "note") == "note", "what fifteen bits cannot hold is not seen"


def scenes(page: Page) -> list[Image.Image]:
    """What the game draws after and before the build."""
    found = []
    for when in ("after", "before"):
        page.get_by_role("radio", name=when.capitalize(), exact=True).click()
        image = page.get_by_role("img", name=f"The scene as the game draws it, {when} the build")
        source = image.get_attribute("src") or ""
        found.append(Image.open(io.BytesIO(base64.b64decode(source.partition(",")[2]))))
    return found


def test_a_stamp_is_made_in_its_three_sizes_of_one_drawing(page: Page, tmp_path: Path) -> None:
    drawing = tmp_path / "puffin.png"
    Image.fromarray(np.round(stamps.motif(77) * 255).astype(np.uint8)).save(drawing)
    editing(page, "STMP03_M.SLT")
    sizes = page.get_by_role("region", name="In several sizes")
    expect(sizes.get_by_role("listitem")).to_have_count(3)
    sizes.locator("input[type=file]").set_input_files(drawing)
    sizes.get_by_role("button", name="Make all 3 sizes").click()
    for size in stamps.SIZES:
        expect(page.get_by_text(f"STMP03_{size}.SLT.png", exact=True).first).to_be_visible(timeout=60_000)
    wait_for_jobs(page)
    edits = asked(page, "edits")
    assert {one["state"] for one in edits} == {"ready"}
    assert {one["steps"][-1]["what"] for one in edits} == {"made of puffin.png"}
    stage(page, "Build").click()
    page.get_by_role("button", name="Build", exact=True).click()
    page.get_by_role("heading", name="The game has your edits").wait_for(timeout=30_000)
    page.get_by_role("link", name="See it in the game").click()
    expect(page.get_by_text("STMP03_S.SLT: drawn").first).to_be_visible(timeout=30_000)
    after, before = (np.asarray(one.convert("RGB")).astype(int) for one in scenes(page))
    rows, columns = np.nonzero(np.abs(after - before).max(axis=-1))
    # Beside the harbour, and nowhere else.
    assert columns.min() >= 912
    assert rows.min() >= 640


def test_the_postwoman_is_dressed_from_a_gif_and_a_bad_frame_is_put_back(page: Page, tmp_path: Path) -> None:
    page.goto(f"{DISC}/find?q=kind:sprite")
    expect(page.get_by_role("status").filter(has_text=re.compile("^4 items$"))).to_be_visible()
    page.get_by_text("POSTWOM.STR").first.click()
    expect(page.get_by_role("img", name="The original, frame 0")).to_be_visible()
    page.get_by_role("button", name="Edit this").click()
    page.get_by_role("region", name="Editing POSTWOM.STR").wait_for()
    path = page.locator("button[title^='Copy ']").first.get_attribute("title") or ""
    sheet = np.asarray(Image.open(path.removeprefix("Copy ")).convert("RGBA"))
    told = asked(page, f"sprite/frames?address={POSTWOMAN}")
    assert [run["name"] for run in told["sequences"]] == [
        f"walk {way}" for way in ("south", "west", "north", "east")
    ]
    gif = tmp_path / "walk.gif"
    gif.write_bytes(dressed(sheet, told, wrong=5))
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Bring a file").click()
    chooser.value.set_files(gif)
    expect(page.get_by_text(re.compile("^Frame 5 jumps by"))).to_be_visible()
    expect(page.get_by_text("frame 5 jumps", exact=True)).to_be_visible()
    page.get_by_role("button", name=re.compile("^Step 5: frame 5, jumps")).click()
    expect(page.get_by_role("img", name="The edit, frame 5")).to_be_visible()
    page.get_by_role("button", name="Move the frames that jump back").click()
    expect(page.get_by_text("nothing jumps", exact=True)).to_be_visible()
    # Whatever comes back, what is looked at stays in view.
    expect(page.get_by_role("img", name="The edit, frame 5")).to_be_visible()
    after = asked(page, f"sprite/frames?address={POSTWOMAN}")["frames"]
    assert [number for number, one in enumerate(after) if one["painted"]] == list(range(8))
    assert not any(one["jumps"] for one in after)
    one_palette_for_the_scene(page)
    stage(page, "Build").click()
    page.get_by_role("button", name="Build", exact=True).click()
    page.get_by_role("heading", name="The game has your edits").wait_for(timeout=30_000)
    page.get_by_role("link", name="See it in the game").click()
    expect(page.get_by_text("POSTWOM.STR: walks").first).to_be_visible(timeout=30_000)
    walking = scenes(page)
    assert [one.n_frames for one in walking] == [8, 8]  # type: ignore[attr-defined]
    assert walking[0].tobytes() != walking[1].tobytes()


def test_a_menus_buttons_move_to_the_top_and_its_picture_is_exchanged(page: Page, tmp_path: Path) -> None:
    page.goto(f"{DISC}/find?folder=CARGO.VOL/MENUS.SCR&q=0312")
    page.get_by_role("button", name="Edit this").click()
    page.get_by_role("region", name="Editing 0312").wait_for()
    tops = (14, 29, 44)
    for number, top in enumerate(tops):
        page.get_by_role("button", name=re.compile(f"^Rectangle {number}: ")).focus()
        expect(page.get_by_label("Top")).to_have_value(str(top))
        page.keyboard.press("Shift+ArrowUp")
        expect(page.get_by_label("Top")).to_have_value(str(top - 8))
    expect(page.get_by_text("Nothing that the game would trip over.")).to_be_visible()
    # The second one dragged onto the first: told, and taken back.
    first, second = (
        page.get_by_role("button", name=re.compile(f"^Rectangle {number}: ")).bounding_box() for number in (0, 1)
    )
    assert first is not None
    assert second is not None
    page.mouse.move(second["x"] + 60, second["y"] + 30)
    page.mouse.down()
    page.mouse.move(first["x"] + 80, first["y"] + 40, steps=6)
    page.mouse.up()
    expect(page.get_by_text("Rectangles 0, 1 lie over each other")).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_text("Rectangles 0, 1 lie over each other")).to_have_count(0)
    expect(page.get_by_role("button", name=re.compile("^Rectangle 1: .* at 4, 21,"))).to_be_visible()
    # A fourth one is drawn; where it leads is a screen that there is.
    page.get_by_role("button", name="Draw one").click()
    picture = page.get_by_role("img", name="The screen", exact=True).bounding_box()
    assert picture is not None
    scale = picture["width"] / 96
    page.mouse.move(picture["x"] + 60 * scale, picture["y"] + 20 * scale)
    page.mouse.down()
    page.mouse.move(picture["x"] + 84 * scale, picture["y"] + 36 * scale, steps=4)
    page.mouse.up()
    page.get_by_label("Leads to").fill("4000")
    expect(page.get_by_text("Rectangle 3 leads to 4000, which is no screen")).to_be_visible()
    # Chosen by a picture of the screen behind it, and of one that does the same.
    page.get_by_role("button", name="Where this game's screens lead").click()
    page.get_by_role("textbox", name="Numbers that begin with").fill("77")
    page.get_by_role("dialog").get_by_role("button", name=re.compile("^77 ")).click()
    expect(page.get_by_role("link", name="Go to screen 77")).to_be_visible()
    page.get_by_role("button", name="What this game's screens do").click()
    page.get_by_role("dialog").get_by_role("button", name=re.compile("^goes back in 750 screens")).click()
    expect(page.get_by_role("link", name="Go to screen 77")).to_have_count(0)
    page.get_by_label("Action", exact=True).select_option("opens")
    expect(page.get_by_role("link", name="Go to screen 77")).to_be_visible()
    # A press alone moves nothing.
    page.get_by_role("button", name=re.compile("^Rectangle 0: ")).click()
    expect(page.get_by_label("Top")).to_have_value("6")
    page.get_by_role("button", name=re.compile("^Rectangle 3: ")).click()
    path = (page.locator("button[title^='Copy ']").first.get_attribute("title") or "").removeprefix("Copy ")
    Image.new("RGB", (96, 64), (40, 90, 140)).save(path)
    expect(page.get_by_text("0312.png came back").first).to_be_visible()
    page.get_by_role("radio", name="Picture").click()
    expect(page.get_by_text("ready to build").first).to_be_visible()
    stage(page, "Build").click()
    expect(page.get_by_text("CARGO.VOL · MENUS.SCR")).to_be_visible()
    page.get_by_role("button", name="Build", exact=True).click()
    page.get_by_role("heading", name="The game has your edits").wait_for(timeout=30_000)
    page.get_by_role("link", name="See it in the game").click()
    expect(page.get_by_text("screen 312: 4 rectangles").first).to_be_visible(timeout=30_000)


def test_a_coat_of_another_colour_spoils_nobody_silently(page: Page, tmp_path: Path) -> None:
    page.goto(f"{DISC}/find?q=kind:palette")
    page.get_by_text("HARBOUR.COL").first.click()
    page.get_by_role("button", name="Edit this").click()
    page.get_by_role("region", name="Editing HARBOUR.COL").wait_for()
    expect(
        page.get_by_role("button", name=re.compile("^Entry 0: .*, reserved: what is not drawn$"))
    ).to_be_visible()
    # The coat's second shade is the bystander's scarf too.
    page.get_by_role("button", name=re.compile("^Entry 17: ")).click()
    page.get_by_label("As #rrggbb").fill("#2040c8")
    page.get_by_role("button", name="Use it").click()
    spoilt = page.get_by_role("region", name="What looks different with it")
    expect(spoilt.get_by_role("listitem")).to_have_count(2)
    expect(page.get_by_text(re.compile("^2 other items look different with it"))).to_be_visible()
    for when in ("as it is", "in the new colours"):
        picture = spoilt.get_by_role("img", name=f"BYSTAND.STR {when}")
        picture.scroll_into_view_if_needed()
        expect(picture).to_have_js_property("naturalWidth", 72)
    stage(page, "Build").click()
    expect(page.get_by_text("the game would refuse it: 2 other items look different")).to_be_visible()
    page.go_back()
    bystander = spoilt.get_by_role("listitem").filter(has_text="BYSTAND.STR")
    bystander.get_by_role("button", name="Re-map").click()
    expect(bystander.get_by_role("link", name="edited: follows it")).to_be_visible()
    expect(page.get_by_text(re.compile("^1 other item looks different with it"))).to_be_visible()
    page.get_by_role("button", name="This is meant").click()
    page.get_by_role("menuitem", name=re.compile("item", re.IGNORECASE)).first.click()
    expect(page.get_by_text("ready to build").first).to_be_visible()
    bystander.get_by_role("link", name="edited: follows it").click()
    expect(page.get_by_role("img", name="The edit, frame 0")).to_be_visible()
    stage(page, "Build").click()
    page.get_by_role("button", name="Build", exact=True).click()
    page.get_by_role("heading", name="The game has your edits").wait_for(timeout=30_000)
    page.get_by_role("link", name="See it in the game").click()
    expect(page.get_by_text("BYSTAND.STR: walks").first).to_be_visible(timeout=30_000)


def test_a_sheet_that_no_layout_describes_plays_too(page: Page, tmp_path: Path) -> None:
    palette, _ = strollers.colours()
    frames = [strollers.FIGURES["DOG.STR"](n % 8, strollers.DIRECTIONS[n // 8]) for n in range(16)]
    rows = [np.hstack(frames[at : at + 8]) for at in (0, 8)]
    indices = np.vstack(rows)
    picture = np.dstack([palette[indices], np.where(indices == 0, 0, 255).astype(np.uint8)])
    game = tmp_path / "kennel"
    game.mkdir()
    Image.fromarray(picture).save(game / "dog.png")
    open_folder(page, game)
    page.goto("/p/kennel/find?q=dog")
    page.get_by_role("button", name="Edit this").click()
    page.get_by_role("radio", name="Frames").click()
    expect(page.get_by_label("Width of a cell")).to_have_value("40")
    expect(page.get_by_label("Height of a cell")).to_have_value("48")
    path = (page.locator("button[title^='Copy ']").first.get_attribute("title") or "").removeprefix("Copy ")
    # A white collar on the first row, in the sixth frame two pixels too low.
    for number in range(8):
        top = 27 + 2 * (number == 5)
        picture[top : top + 2, number * 40 + 17 : number * 40 + 24] = (250, 250, 250, 255)
    Image.fromarray(picture).save(path)
    expect(page.get_by_text("frame 5 jumps", exact=True)).to_be_visible()
    page.get_by_label("Sequence").select_option(label="row 1 (8)")
    expect(page.get_by_role("img", name="The edit, frame 8")).to_be_visible()
