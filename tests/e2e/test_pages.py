"""The real pages, driven in headless Chromium, from choosing the game to putting it back."""

from __future__ import annotations

import base64
import io
import re
import struct
import zipfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
import soundfile
import trimesh
from PIL import Image
from playwright.sync_api import Browser, Page, expect

from brae.core.assets.base import Context
from brae.core.assets.mesh.lighting import Light
from brae.core.assets.mesh.looking import picture
from brae.core.assets.registry import kinds
from brae.core.assets.sound.loops import jump
from brae.core.assets.sound.sound import read as sound_file
from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_levels
from brae.core.assets.texture.files import read_image, read_texture, write_image, write_texture
from brae.core.assets.texture.texture import Header
from brae.core.containers.nesting import open_path
from brae.core.layouts.library import Library
from brae.core.places import GAME_LAYOUTS
from brae.demo import DISC as DISC_FOLDER
from brae.demo import LAYOUTS, art
from tests.core.assets.sound.test_spoken import line as spoken_line
from tests.core.assets.sound.test_spoken import points_of
from tests.core.families import BY_NAME
from tests.core.voices.spoken import speak
from tests.e2e.driver import base, chromium, served
from tests.e2e.homes import moved, opened_home
from tests.e2e.tour import (
    DISC,
    edit_one,
    fill_white,
    find_by_picture,
    open_folder,
    paint_sail,
    put_in_work,
    screen_on_the_disc,
    screenshot_with_the_chart,
    stage,
    unknown_game,
    wait_for_jobs,
)
from tests.kinds.test_flags import FLAGS, harbour
from tests.work.test_flow import digests

# In no group: each goes to the worker that is free, so that none waits at the end.
pytestmark = [pytest.mark.browser]
AXE = Path(__file__).parents[2] / "web/node_modules/axe-core/axe.min.js"


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with chromium() as browser:
        yield browser


@pytest.fixture
def home(request: pytest.FixtureRequest, tmp_path: Path, made_demo: Path, made_disc: Path) -> Path:
    """A Brae folder in which the demo games are opened already; the disc is a small one unless a test asks."""
    whole = request.node.get_closest_marker("whole_disc") is not None
    disc: Path = request.getfixturevalue("whole_disc") if whole else made_disc
    kept = opened_home(made_demo.parents[1] / f"brae-{'whole' if whole else 'small'}-home", made_demo, disc)
    return moved(kept, tmp_path / "home")


@pytest.fixture
def game(home: Path, made_demo: Path) -> Path:
    return home / "games" / made_demo.name


@pytest.fixture
def page(browser: Browser, home: Path) -> Iterator[Page]:
    with served(home, "demo") as address:
        context = browser.new_context(
            viewport={"width": 1280, "height": 800}, base_url=base(address), reduced_motion="reduce"
        )
        page = context.new_page()
        faults: list[str] = []
        page.on("pageerror", lambda error: faults.append(str(error)))
        # A refusal that the page shows in words (422) stands in the console too, and so does the answer that
        # something is still being worked out, which a slow machine gives more often (409 to a question).
        page.on(
            "console",
            lambda m: faults.append(m.text) if m.type == "error" and not re.search("409|422", m.text) else None,
        )
        page.on(
            "response",
            lambda answer: (
                faults.append(f"409 from {answer.url}")
                if answer.status == 409 and answer.request.method != "GET"
                else None
            ),
        )
        page.on(
            "request",
            lambda request: (
                None if request.url.startswith((base(address), "data:", "blob:")) else faults.append(request.url)
            ),
        )
        page.goto(address)
        page.get_by_role("button", name="Go to the demo game").click(timeout=60_000)
        page.get_by_role("grid").wait_for()
        yield page
        context.close()
        assert faults == [], "no error in the console, and nothing is fetched from anywhere else"


@pytest.mark.whole_disc
def test_a_screen_three_levels_deep_on_the_disc(page: Page, home: Path) -> None:
    wait_for_jobs(page)
    game = home / "games" / DISC_FOLDER
    before = digests(game)
    page.goto(f"{DISC}/open")
    expect(page.get_by_text("Proved.")).to_have_count(4)
    page.goto(f"{DISC}/find?where=kind:archive")
    page.get_by_role("button", name="Show what is in it").click()
    expect(page.get_by_role("status").filter(has_text=re.compile("^15,000 items"))).to_be_visible()
    screen_on_the_disc(page)
    page.goto(f"{DISC}/edit?item=skerry.bin%2F%2FCARGO.VOL%2F%2FMENUS.SCR%2F%2F0312")
    page.get_by_role("button", name=re.compile("^Rectangle 0: ")).focus()
    page.keyboard.press("Shift+ArrowUp")
    page.get_by_text("rectangles: areas.json").first.wait_for()
    stage(page, "Build").click()
    expect(page.get_by_text("CARGO.VOL · MENUS.SCR")).to_be_visible()
    # Until the plan is whole it is shown paler.
    expect(page.locator("[aria-label=Plan][aria-busy=false]")).to_be_visible()
    check_access(page, "build of the disc")
    page.get_by_role("button", name="Build", exact=True).click()
    page.get_by_role("heading", name="The game has your edits").wait_for(timeout=20_000)
    changed = (game / "skerry.bin").read_bytes()
    assert digests(game) != before
    page.get_by_role("link", name="See it in the game").click()
    page.get_by_role("heading", name="What it loaded").wait_for(timeout=20_000)
    expect(page.get_by_text("MENUS.SCR: 3,000 screens").first).to_be_visible()
    # The menu is walked: its first button lies higher, and leads on and back as before.
    menus = page.get_by_role("region", name="Walk the menus")
    screen = menus.get_by_role("button").first
    tops = []
    for side in ("Before", "After"):
        page.get_by_role("radio", name=side).click()
        cursor = screen.locator("span")
        tops.append(cursor.evaluate("one => parseFloat(one.style.top)"))
    assert tops[1] == pytest.approx(tops[0] - 100 * 8 / 64)
    screen.focus()
    page.keyboard.press("ArrowDown")
    expect(screen).to_have_attribute("aria-label", re.compile("^Screen 312, rectangle 1 of 3"))
    page.keyboard.press("Enter")
    expect(screen).to_have_attribute("aria-label", re.compile("^Screen 937, rectangle 0 of 3"))
    page.keyboard.press("Backspace")
    expect(menus).to_contain_text("Screen 0312, leads to 0936")
    box = screen.bounding_box()
    assert box is not None
    page.mouse.click(box["x"] + box["width"] * 0.1, box["y"] + box["height"] * (tops[1] / 100 + 0.05))
    expect(menus).to_contain_text("Screen 0936")
    check_access(page, "the menus of the trial")
    assert len(changed) == (game / "skerry.bin").stat().st_size
    stage(page, "Build").click()
    page.get_by_role("button", name="Restore every original").click()
    page.get_by_role("button", name="Put all of it back").click()
    expect(page.get_by_text("2 files, all as they were.")).to_be_visible(timeout=20_000)
    assert digests(game) == before


def check_access(page: Page, view: str) -> None:
    """axe-core finds nothing serious (WCAG 2.2 AA) on this view."""
    page.wait_for_timeout(300)
    check_tidy(page, view)
    page.evaluate(AXE.read_text())
    found = page.evaluate(
        "axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']})"
        ".then(r => r.violations"
        ".filter(v => ['serious', 'critical'].includes(v.impact))"
        ".map(v => v.id + ': ' + v.nodes.map(n => n.html.slice(0, 160) + ' ' + n.failureSummary).join(' | ')))"
    )
    assert found == [], f"{view}: {found}"


#: half a screen beside an image editor, a small one, a large one
SIZES = [(960, 1080), (1280, 800), (2560, 1440)]
TIDY = (Path(__file__).parent / "tidy.js").read_text()


def check_tidy(page: Page, view: str) -> None:
    """Nothing is cut off, covered or outside the window, in half a screen as in a large one."""
    usual = page.viewport_size
    assert usual is not None
    for width, height in SIZES:
        page.set_viewport_size({"width": width, "height": height})
        page.wait_for_timeout(80)
        found = page.evaluate(TIDY)
        if found:  # a busy machine may still be laying it out
            page.wait_for_timeout(600)
            found = page.evaluate(TIDY)
        assert found == [], f"{view} at {width} x {height}: {found}"
    page.set_viewport_size(usual)


def test_a_screenshot_leads_to_the_texture(page: Page, tmp_path: Path) -> None:
    """Three actions: choose the screenshot, see what comes first, edit it."""
    find_by_picture(page, screenshot_with_the_chart(page, tmp_path))
    note = page.get_by_role("note")
    expect(page.get_by_role("complementary", name="Chosen item")).to_contain_text("textures/harbour/chart.ptx")
    expect(note.get_by_role("img", name="The picture that you look for")).to_be_visible()
    check_tidy(page, "found by a picture")
    found = page.url
    assert "like=" in found
    page.get_by_role("button", name="Edit this").click()
    expect(page.get_by_text("waits for your file").first).to_be_visible()
    page.goto(found)
    expect(note).to_contain_text("appears in it, where it is marked")
    page.get_by_role("button", name="Show all items").click()
    expect(note).to_have_count(0)
    expect(page.get_by_text("375 items")).to_be_visible()


def test_what_is_asked_read_otherwise_kept_and_linked(page: Page) -> None:
    """A misspelt word, a kept search, a line of a text, and the way from a material to its texture and back."""
    field, table = page.get_by_label("Search by name or path"), page.get_by_role("grid")
    field.fill("lighthose")
    expect(page.get_by_role("status").get_by_text("read as lighthouse")).to_be_visible()
    arrow = page.get_by_role("button", name="Kept searches, and what can be asked")
    field.fill("kind:texture width:64 skua")
    expect(table.get_by_role("row").first).to_contain_text("skua")
    arrow.click()
    page.get_by_role("button", name="Keep this one").click()
    kept = page.get_by_role("button", name="kind:texture width:64 skua", exact=True)
    expect(kept).to_be_visible()
    page.get_by_role("button", name='text:"the lamp"').click()
    expect(field).to_have_value('text:"the lamp"')
    arrow.click()
    kept.click()
    expect(field).to_have_value("kind:texture width:64 skua")
    field.fill("text:figures/keeper")
    table.get_by_role("row").first.click()
    detail = page.get_by_label("Chosen item")
    expect(detail.get_by_text("colour = figures/keeper").last).to_be_visible()
    detail.get_by_role("button", name="figures/keeper.ptx").click()
    expect(detail.get_by_role("heading", name="figures/keeper.ptx")).to_be_visible()
    expect(detail.get_by_role("button", name="materials/keeper.txt")).to_be_visible()


def test_change_the_sail_and_put_it_back(page: Page, game: Path) -> None:
    before = digests(game)
    file = Path(put_in_work(page, "boat sail"))
    assert Image.open(file).size == (256, 256)
    expect(page.get_by_text("waits for your file").first).to_be_visible()
    paint_sail(file)  # saved by an image editor: nothing is clicked
    expect(page.get_by_text("ready to build").first).to_be_visible(timeout=15_000)
    expect(page.get_by_text("Nothing that the game would trip over.")).to_be_visible()
    expect(page.get_by_role("img", name="edit, mip level 0")).to_be_visible()
    page.get_by_role("link", name="Build this edit into the game").click()
    expect(page.get_by_text("patched in place").first).to_be_visible()
    page.get_by_role("button", name="Build", exact=True).click()
    expect(page.get_by_role("heading", name="The game has your edits")).to_be_visible(timeout=20_000)
    assert {path for path in before if digests(game)[path] != before[path]} == {
        "data/harbour.kist",
        "data/harbour.hold",
    }
    page.get_by_role("link", name="See it in the game").click()
    expect(page.get_by_text("The game takes everything")).to_be_visible(timeout=20_000)
    after = page.get_by_role("img", name="The scene as the game draws it, after the build").get_attribute("src")
    page.get_by_role("radio", name="Before").click()
    scene = page.get_by_role("img", name="The scene as the game draws it, before the build").get_attribute("src")
    assert scene != after
    stage(page, "Build").click()
    page.get_by_role("button", name="Restore every original").click()
    page.get_by_role("button", name="Put all of it back").click()
    expect(page.get_by_text("10 files, all as they were.")).to_be_visible(timeout=20_000)
    assert digests(game) == before


def paint_patch(path: Path) -> None:
    """Another colour on a patch that begins and ends with blocks, whatever the depth of the file."""
    picture = read_image(path.read_bytes(), path.name).picture.copy()
    patch = picture[16:48, 24:56]
    patch[..., :3] = patch[..., 2::-1] * 2 if picture.dtype == np.float32 else 255 - patch[..., :3]
    path.write_bytes(write_image(picture, path.suffix[1:]))


KINDS = {"harbour dusk": "bc7", "water swell_n": "bc5", "rock height": "bc4", "harbour noon": "bc6h"}
KINDS |= {"boat hull_wear": "bc7", "post parcel_00": "bc1", "seabirds petrel_4": "bgra8"}


def test_a_texture_of_each_kind_changes_where_it_was_painted_and_nowhere_else(page: Page, game: Path) -> None:
    library = Library.of([LAYOUTS])
    index = game / "data/harbour.kist"
    before = open_path(index, [], library).container
    originals = {name: before.read(number) for number, name in enumerate(before.names)}
    for words in KINDS:
        stage(page, "Find").click()
        page.get_by_role("searchbox").fill(words)
        page.get_by_role("status").filter(has_text=re.compile("^1 item$")).wait_for()
        page.get_by_role("button", name="Edit this").click()
        page.get_by_role("region", name=f"Editing textures/{words.replace(' ', '/')}").wait_for()
        title = page.locator("button[title^='Copy ']").first.get_attribute("title") or ""
        paint_patch(Path(title.removeprefix("Copy ")))
        page.get_by_role("region", name="How it is encoded").wait_for(timeout=15_000)
        expect(page.get_by_text("Compression loss")).to_be_visible()
    stage(page, "Build").click()
    page.get_by_role("button", name="Build", exact=True).click()
    page.get_by_role("heading", name="The game has your edits").wait_for(timeout=20_000)
    page.get_by_role("link", name="See it in the game").click()
    page.get_by_role("heading", name="What it loaded").wait_for(timeout=20_000)
    expect(page.get_by_text("scene drawn with 42 of 42 textures").first).to_be_visible()
    after = open_path(index, [], library).container
    made = {name: after.read(number) for number, name in enumerate(after.names)}
    assert made.keys() == originals.keys()
    changed = {name for name, data in made.items() if data != originals[name]}
    assert {name.removeprefix("textures/").rpartition(".")[0].replace("/", " ") for name in changed} == set(KINDS)
    for name in changed:
        old, new = read_texture(originals[name], library, name), read_texture(made[name], library, name)
        assert old.header == new.header
        assert len(originals[name]) == len(made[name])
        size, rows = old.header.format.block_bytes, old.header.format.block[0]
        across = -(-old.header.width // rows)
        a, b = (np.frombuffer(one.levels[0], np.uint8).reshape(-1, across, size) for one in (old, new))
        inside = np.zeros(a.shape[:2], bool)
        inside[16 // rows : 48 // rows, 24 // rows : 56 // rows] = True
        if old.header.orientation == "bottom-up":
            inside = inside[::-1]
        assert not ((a != b).any(axis=2) & ~inside).any(), name


def test_encoding_by_choice_and_the_worst_block(page: Page) -> None:
    path = put_in_work(page, "boat sail")
    paint_sail(Path(path))
    page.get_by_text("ready to build").first.wait_for(timeout=15_000)
    page.get_by_role("radio", name="Loss").click()
    expect(page.get_by_alt_text("heat, mip level 0")).to_be_visible()
    page.get_by_role("button", name="Show the worst block").click()
    expect(page.get_by_text("1600 %")).to_be_visible()
    page.get_by_role("button", name="How it is encoded").click()
    page.get_by_label("Effort").select_option("high")
    expect(page.get_by_text("encoded: effort high")).to_be_visible(timeout=15_000)
    page.get_by_role("button", name="Like the original again").click()
    expect(page.get_by_text("encoded: like the original")).to_be_visible(timeout=15_000)
    page.get_by_label("Pixel format").select_option("bc7")
    expect(page.get_by_text("Stored as BC7 by your choice")).to_be_visible(timeout=15_000)
    page.get_by_label("Mip levels").and_(page.get_by_role("combobox")).select_option("none but itself")
    fewer = page.get_by_text("Stored with no mip levels by your choice, the original has 9")
    expect(fewer).to_be_visible(timeout=15_000)
    expect(page.get_by_label("Mip filter")).to_have_count(0)


def test_every_side_of_a_cube_is_one_choice_away(page: Page, tmp_path: Path) -> None:
    game = tmp_path / "Cairn"
    game.mkdir()
    header = Header("dds", formats.BC7, 64, 64, 7, shape="cube", surfaces=6)
    colours = np.array([[200, 40, 40], [40, 200, 40], [40, 40, 200], [200, 200, 40], [40, 200, 200], [90, 90, 90]])
    sheet = np.full((6 * 64, 64, 4), 255, np.uint8)
    sheet[..., :3] = np.repeat(colours, 64, axis=0)[:, None]
    (game / "sky.dds").write_bytes(write_texture(header, encode_levels(sheet, header)[0], dx10=True))
    open_folder(page, game)
    stage(page, "Find").click()
    page.get_by_role("button", name="Edit this").click()
    values = page.get_by_role("status", name="Values under the pointer")
    pane = page.locator("[data-pane]").first
    for name, colour in (("+Y", "R 40 G 40 B 200"), ("−Z", "R 90 G 90 B 90")):
        page.get_by_label("Picture", exact=True).select_option(name)
        box = pane.bounding_box()
        assert box is not None
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2 + len(name))
        expect(values).to_contain_text(colour)


def test_the_wipe_tells_the_values_of_the_half_under_the_pointer(page: Page) -> None:
    file = Path(put_in_work(page, "boat sail"))
    red = np.full((256, 256, 4), (200, 40, 40, 255), np.uint8)
    Image.fromarray(red).save(file)
    page.get_by_role("img", name="edit, mip level 0").wait_for(timeout=20_000)
    page.get_by_role("radio", name="Wipe").click()
    values = page.get_by_role("status", name="Values under the pointer")
    box = page.locator("[data-pane]").bounding_box()
    assert box is not None
    middle = box["y"] + box["height"] / 2
    for place, which in ((0.56, "edit"), (0.44, "original"), (0.6, "edit"), (0.4, "original")):
        page.mouse.move(box["x"] + box["width"] * place, middle)
        expect(values).to_contain_text(f"{which} ")
        told = re.search(r"R (\d+)", values.inner_text())
        assert told is not None
        assert (abs(int(told[1]) - 200) < 9) == (which == "edit"), values.inner_text()


def test_a_page_of_another_start_says_what_to_do(browser: Browser, home: Path) -> None:
    with served(home, "serve") as address:
        context = browser.new_context(base_url=base(address))
        page = context.new_page()
        page.goto("/")
        expect(
            page.get_by_role("heading", name="This page does not belong to the Brae that runs now")
        ).to_be_visible()
        page.goto(address)
        expect(page.get_by_role("heading", name="Change the pictures of a game")).to_be_visible()
        assert "key=" not in page.url, "the secret leaves the address"
        page.reload()
        expect(page.get_by_role("heading", name="Change the pictures of a game")).to_be_visible()
        context.close()


def test_a_build_waits_for_its_turn_and_says_so(page: Page) -> None:
    """While the game is opened once more, a build is asked for."""
    file = Path(put_in_work(page, "boat sail"))
    paint_sail(file)
    page.get_by_text("ready to build").first.wait_for(timeout=15_000)
    told = page.evaluate(
        """async () => {
        const post = (what) => fetch(`/api/projects/skerry-post/${what}`, {method: "POST"}).then((a) => a.json());
        await post("open");
        const build = await post("build");
        return {state: build.state, waits: build.waits_for};
    }"""
    )
    assert told["state"] in ("waiting", "running")
    if told["state"] == "waiting":
        assert told["waits"].startswith("Opening")
    wait_for_jobs(page)
    stage(page, "Build").click()
    expect(page.get_by_role("heading", name="The game has your edits")).to_be_visible(timeout=20_000)


def test_texels_on_a_unit_of_the_world(page: Page) -> None:
    put_in_work(page, "boat sail")
    page.get_by_role("button", name="Texels per unit").click()
    page.get_by_label("Its width covers").fill("128")
    page.get_by_label("Wanted").fill("4")
    texels = page.get_by_role("region", name="Texels per unit")
    expect(texels).to_contain_text("256 × 256 on 128 × 128 units is 2 texels a unit, a scale of 0.5.")
    expect(texels).to_contain_text("For 4 a unit the side is 512")
    page.get_by_label("Wanted").fill("0")
    expect(texels).to_contain_text("Both numbers are greater than nothing.")


def test_pixels_without_a_header_are_understood_and_kept(page: Page) -> None:
    wait_for_jobs(page)
    page.goto("/p/skerry-post/find?q=grain")
    page.get_by_role("link", name="Look for a picture in it").click()
    expect(page.get_by_role("button", name="Guess 1", exact=False).first).to_have_attribute("aria-pressed", "true")
    expect(page.get_by_alt_text("textures/grain/wood_00.raw as 128 × 128 bc1, 8 levels")).to_be_visible()
    check_access(page, "guess")
    page.get_by_label("Width").fill("256")
    expect(page.get_by_text("too few bytes")).to_be_visible()
    page.get_by_label("Height").fill("64")
    page.get_by_label("Mip levels").fill("7")
    expect(page.get_by_alt_text("textures/grain/wood_00.raw as 256 × 64 bc1, 7 levels")).to_be_visible()
    page.get_by_role("button", name="Guess 1", exact=False).first.click()
    page.get_by_label("A name for the layout").fill("Wood grain")
    page.get_by_role("button", name="Keep and open again").click()
    expect(page.get_by_text("kept as wood-grain.yaml")).to_be_visible(timeout=15_000)
    wait_for_jobs(page)
    page.goto("/p/skerry-post/find?q=grain&where=kind:texture")
    expect(page.get_by_role("status").filter(has_text=re.compile("^4 items"))).to_be_visible()


def test_a_loose_file_without_a_header_is_looked_at_from_open(page: Page, tmp_path: Path) -> None:
    game = tmp_path / "Loose"
    game.mkdir()
    parcel = art.parcel(np.random.default_rng(3), 128, (196, 160, 104), art.TAR)
    (game / "parcel.pix").write_bytes(np.ascontiguousarray(parcel[..., [2, 1, 0, 3]]).tobytes())
    open_folder(page, game)
    page.get_by_role("link", name="Look for a picture in it").click()
    expect(page.get_by_alt_text("parcel.pix as 128 × 128 bgra8, 1 levels")).to_be_visible()
    expect(page.get_by_text("whether red or blue comes first")).to_be_visible()
    page.get_by_label("A name for the layout").fill("Parcels")
    page.get_by_role("button", name="Keep and open again").click()
    expect(page.get_by_text("kept as parcels.yaml")).to_be_visible(timeout=15_000)
    expect(page.get_by_role("status").filter(has_text="1 item")).to_be_visible(timeout=15_000)


def test_test_colours_show_in_the_game_and_go_again(page: Page) -> None:
    page.goto("/p/skerry-post/find?q=harbour%20shop")
    page.get_by_role("status").filter(has_text=re.compile("^12 items")).wait_for()
    page.get_by_role("grid").get_by_role("row").nth(0).click(modifiers=["Control"])
    page.get_by_role("grid").get_by_role("row").nth(3).click(modifiers=["Control"])
    page.get_by_role("button", name="Test colours").click()
    page.get_by_role("menuitem", name="One colour").click()
    expect(page.get_by_text("2 items have test colours")).to_be_visible(timeout=15_000)
    stage(page, "Build").click()
    page.get_by_role("button", name="Build", exact=True).click()
    page.get_by_role("heading", name="The game has your edits").wait_for(timeout=20_000)
    page.get_by_role("link", name="See it in the game").click()
    expect(page.get_by_role("heading", name="What it loaded")).to_be_visible(timeout=20_000)
    page.goto("/p/skerry-post/edit")
    page.get_by_role("button", name="Mip levels").click()
    expect(page.get_by_text("worked out", exact=True).first).to_be_visible()
    check_access(page, "edit with test colours")
    page.get_by_role("button", name="Take the test colours back").click()
    expect(page.get_by_text("1 item has what was there before")).to_be_visible(timeout=15_000)


def test_many_pictures_get_other_colours_and_their_own_back(page: Page, home: Path) -> None:
    """Thirty-five and more by one gradient, without the maps that hold none; kept, given to others, taken back."""
    page.goto("/p/skerry-post/find?where=kind:texture&q=/boat|chart|stamp_[0-1]/")
    rows = page.get_by_role("grid").get_by_role("row")
    rows.first.click()
    page.keyboard.press("Control+a")
    page.get_by_role("button", name="Colours", exact=True).click()
    check_access(page, "colours")
    expect(page.get_by_role("button", name="a packed map hull_wear.ptx")).to_be_visible()
    page.get_by_role("button", name="Take this step away").click()
    page.get_by_role("button", name="One step more").click()
    page.get_by_role("menuitem", name="Gradient by lightness").click()
    page.get_by_role("button", name="chart.ptx is changed").click()
    expect(page.get_by_role("button", name="left as it is chart.ptx")).to_be_visible()
    page.get_by_label("Name of these steps").fill("autumn")
    page.get_by_role("button", name="Keep", exact=True).click()
    expect(page.get_by_text("Kept as autumn")).to_be_visible()
    assert "gradient" in (home / "colours" / "autumn.yaml").read_text()
    page.get_by_role("button", name=re.compile("^Change these")).click()
    told = page.get_by_role("status").filter(has_text=re.compile(r"[0-9]+ pictures changed"))
    expect(told).to_be_visible(timeout=150_000)
    changed = int(told.inner_text().split()[0])
    assert changed >= 35
    waiting = page.get_by_role("img", name=re.compile(f"^{changed} "))
    expect(waiting.first).to_be_visible()
    check_access(page, "colours, changed")
    # Of many the strip draws those that are seen, and goes to the one that is looked at.
    strip = page.get_by_role("region", name="Editing")
    expect(strip.get_by_role("link")).not_to_have_count(changed)
    page.goto("/p/skerry-post/edit?item=data%2Fharbour.kist%2F%2Ftextures%2Fstamps%2Fstamp_19.ptx")
    expect(strip.get_by_role("link", name="stamp_19.ptx")).to_be_in_viewport()
    page.go_back()
    # The same steps are there again for what was changed, as text too.
    page.reload()
    page.get_by_role("button", name="As text").click()
    expect(page.get_by_role("textbox", name="The steps as text")).to_have_value(re.compile("gradient: "))
    page.get_by_role("textbox", name="The steps as text").fill("steps:\n  - {hue: 40}\n")
    page.get_by_role("button", name="Take this text").click()
    expect(page.get_by_role("listitem", name="Step 1: Turn all hues")).to_be_visible()
    page.get_by_role("button", name=re.compile("^Change these")).click()
    expect(told).to_be_visible(timeout=150_000)
    page.get_by_role("button", name="Take them back").click()
    expect(page.get_by_text("Nothing is being edited yet")).to_be_visible(timeout=150_000)


def test_white_ground_is_noticed_and_put_right(page: Page) -> None:
    fill_white(Path(put_in_work(page, "harbour lighthouse")))
    expect(page.get_by_text("The clear areas came back filled with white").first).to_be_visible(timeout=60_000)
    stage(page, "Check").click()
    expect(page.get_by_role("heading", name="1 edit would trip the game up")).to_be_visible()
    page.get_by_role("button", name="Take the transparency from the original").click()
    expect(page.get_by_role("heading", name="The game would take all of it")).to_be_visible(timeout=60_000)
    page.get_by_role("link", name="Look at textures/harbour/lighthouse.ptx").click()
    # Undo by the keyboard takes the remedy back, redo applies it again.
    expect(page.get_by_text("Put right:")).to_be_visible()
    page.keyboard.press("Control+z")
    expect(page.get_by_role("button", name="Take the transparency from the original")).to_be_visible()
    page.keyboard.press("Control+y")
    expect(page.get_by_text("Put right:")).to_be_visible()


def test_a_file_brought_by_hand(page: Page, tmp_path: Path) -> None:
    put_in_work(page, "signs tea")
    picture = np.full((128, 128, 4), (200, 60, 30, 255), np.uint8)
    Image.fromarray(picture).save(tmp_path / "mine.png")
    page.get_by_label("A file for this item").set_input_files(tmp_path / "mine.png")
    expect(page.get_by_text("mine.png came back")).to_be_visible(timeout=15_000)
    (tmp_path / "bad.png").write_bytes(b"no picture")
    page.get_by_label("A file for this item").set_input_files(tmp_path / "bad.png")
    expect(page.get_by_text("This is not a picture that Brae reads.")).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="Download").click()
    assert download.value.suggested_filename == "tea.ptx.png"


def test_comparing(page: Page) -> None:
    paint_sail(Path(put_in_work(page, "boat sail")))
    expect(page.get_by_text("ready to build").first).to_be_visible(timeout=15_000)
    picture = page.get_by_role("img", name="edit, mip level 0")
    box = picture.bounding_box()
    page.keyboard.press("+")
    larger = picture.bounding_box()
    assert box is not None
    assert larger is not None
    assert larger["width"] == 2 * box["width"]
    original = page.get_by_role("img", name="original, mip level 0").bounding_box()
    assert original is not None
    assert (original["width"], original["y"]) == (larger["width"], larger["y"]), "same zoom, same position"
    page.keyboard.press("d")
    expect(page.get_by_text("difference, four times as strong")).to_be_visible()
    page.keyboard.press("w")
    expect(page.get_by_role("slider", name="Where the edit begins")).to_be_visible()
    page.get_by_role("slider", name="Where the edit begins").press("ArrowRight")
    page.keyboard.press("b")
    expect(page.get_by_text("original (Space steps)")).to_be_visible()
    page.keyboard.press("]")
    page.keyboard.press("s")
    expect(page.get_by_role("img", name="edit, mip level 1")).to_be_visible()
    page.get_by_role("radio", name="Alpha").click()
    assert "channels=a" in (page.get_by_role("img", name="edit, mip level 1").get_attribute("src") or "")


def test_finding_by_keyboard(page: Page) -> None:
    """From the search to an item in work without a mouse."""
    page.keyboard.press("/")
    page.keyboard.type("harbour.kist stamp_0")
    expect(page.get_by_role("status").filter(has_text=re.compile("^10 items"))).to_be_visible()
    table = page.get_by_role("grid")
    table.focus()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowRight")
    expect(page.get_by_role("heading", name="textures/stamps/stamp_02.ptx")).to_be_visible()
    page.keyboard.press("Control+a")
    expect(page.get_by_role("button", name="Edit these 10")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("button", name="Edit these")).to_have_count(0)
    page.keyboard.press("ArrowLeft")
    page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("Control+ArrowRight")
    page.keyboard.press("Control+ArrowRight")
    page.keyboard.press("Control+Space")
    chosen = table.locator("[aria-selected=true]")
    assert [row.get_attribute("aria-rowindex") for row in chosen.all()] == ["2", "3", "5"]
    page.keyboard.type("stamp_07")
    expect(page.get_by_role("heading", name="textures/stamps/stamp_07.ptx")).to_be_visible()
    page.keyboard.press("Shift+ArrowRight")
    page.get_by_role("button", name="Edit these 2").press("Enter")
    expect(page.get_by_text("2 items are being edited")).to_be_visible()
    table.get_by_role("row").first.click()
    page.keyboard.press("End")
    page.keyboard.press("Enter")
    expect(page.get_by_role("region", name="Editing textures/stamps/stamp_09.ptx")).to_be_visible()
    page.keyboard.press("Alt+4")
    expect(page.get_by_role("heading", name="Nothing to check yet")).to_be_visible()
    page.keyboard.press("Control+k")
    page.keyboard.type("mid-grey")
    page.keyboard.press("Enter")
    expect(page.get_by_placeholder("What would you like to do?")).not_to_be_visible()


def test_a_page_reload_loses_nothing(page: Page) -> None:
    page.get_by_role("checkbox", name="Sounds").click()
    expect(page.get_by_role("status").filter(has_text=re.compile("^40 items"))).to_be_visible()
    page.reload()
    expect(page.get_by_role("status").filter(has_text=re.compile("^40 items"))).to_be_visible()
    expect(page.get_by_text("Played at a safe loudness")).to_be_visible()
    volume = page.locator("audio").evaluate("player => player.volume")
    assert volume == pytest.approx(0.3)
    check_tidy(page, "find, sounds")

    # In groups, some chosen by a rectangle drawn over them: all of it is there again.
    page.get_by_role("button", name="show all").click()
    page.get_by_label("Group by").select_option("folder")
    table = page.get_by_role("grid")
    items = table.locator("[aria-rowindex]")
    first, third = items.nth(0), items.nth(2)
    heading = table.get_by_title("Choose all of this group").first
    expect(heading).to_be_visible()
    start, end = first.bounding_box(), third.bounding_box()
    assert start is not None
    assert end is not None
    page.mouse.move(start["x"] + 20, start["y"] + 20)
    page.mouse.down()
    page.mouse.move(start["x"] + 60, start["y"] + 40, steps=4)
    # A browser that is busy calls a press off now and then, though the button is still down.
    page.evaluate("window.dispatchEvent(new PointerEvent('pointercancel'))")
    page.mouse.move(end["x"] + 20, end["y"] + 60, steps=4)
    page.mouse.up()
    expect(page.get_by_role("toolbar", name="What is chosen")).to_contain_text("Edit these 3")
    chosen = [row.get_attribute("aria-label") for row in table.locator("[aria-selected=true]").all()]
    assert len(chosen) == 3
    page.wait_for_url("**chosen=0-2**")
    page.reload()
    expect(page.get_by_role("toolbar", name="What is chosen")).to_contain_text("Edit these 3")
    assert [row.get_attribute("aria-label") for row in table.locator("[aria-selected=true]").all()] == chosen
    # A heading chooses its group.
    number = int(heading.locator("xpath=following-sibling::span").inner_text())
    heading.click()
    expect(page.get_by_role("toolbar", name="What is chosen")).to_contain_text(f"Edit these {number}")
    assert number > 3
    check_access(page, "find, in groups")


def test_what_belongs_together_and_where_bytes_stand(page: Page) -> None:
    """From a texture to the material that names it, by the drawing; and to the one place of some bytes."""
    page.get_by_label("Search by name or path").fill("figures/ferryman")
    table = page.get_by_role("grid")
    expect(table.locator("[aria-rowindex]")).to_have_count(1)
    table.locator("[aria-rowindex]").first.click()
    page.get_by_role("button", name="What belongs together").click()
    drawn = page.get_by_role("dialog", name="What belongs together")
    drawn.get_by_role("button", name="ferryman.txt").click()
    expect(drawn.get_by_text("Uses 1")).to_be_visible()
    check_access(page, "what belongs together")
    drawn.get_by_role("button", name="Go to it").click()
    expect(page.get_by_role("heading", name="materials/ferryman.txt")).to_be_visible()
    expect(page.get_by_role("status").filter(has_text=re.compile("^375 items"))).to_be_visible()

    page.get_by_label("Search by name or path").fill('holds:"main = data/harbour"')
    expect(table.locator("[aria-rowindex]")).to_have_count(1, timeout=30_000)
    table.locator("[aria-rowindex]").first.click()
    places = page.get_by_role("region", name="Places")
    expect(places.get_by_role("heading", name="1 place")).to_be_visible()
    expect(places).to_contain_text("6d 61 69 6e 20 3d 20 64 61 74 61 2f 68 61 72 62 6f 75 72")


def test_a_material_by_its_pictures_and_numbers(page: Page) -> None:
    """Another texture chosen by its picture, a switch, a number out of its range: told, taken back, built."""
    page.get_by_label("Search by name or path").fill("kind:material ferryman")
    table = page.get_by_role("grid")
    expect(table.locator("[aria-rowindex]")).to_have_count(1)
    table.locator("[aria-rowindex]").first.click()
    page.get_by_role("button", name="Edit this").click()
    expect(page.get_by_role("img", name="figures/ferryman.ptx")).to_be_visible()
    page.get_by_role("button", name="Choose another").click()
    page.get_by_label("Find a texture").fill("figures/tea")
    page.get_by_role("button", name="figures/teacher.ptx").click()
    expect(page.get_by_label("colour texture")).to_have_value("figures/teacher")
    text = page.get_by_role("region", name="Its text")
    expect(text).to_contain_text("colour = figures/teacher")
    expect(text).to_contain_text("; how much wet cloth shines")
    page.get_by_label("two-sided").click()
    expect(text).to_contain_text("two_sided = yes")
    check_access(page, "a material")
    number = page.get_by_label("highlight", exact=True)
    number.fill("7")
    number.press("Enter")
    expect(page.get_by_text("1 is the most")).to_be_visible()
    path = page.get_by_label("colour texture")
    path.fill("figures/teecher")
    path.press("Enter")
    page.get_by_role("button", name="Write figures/teacher").click()
    expect(text).to_contain_text("colour = figures/teacher")
    number.fill("0.9")
    number.press("Enter")
    expect(page.get_by_text("1 is the most")).to_have_count(0)


def test_choosing_a_folder(page: Page, tmp_path: Path) -> None:
    (tmp_path / "empty game").mkdir()
    (tmp_path / "empty game" / "readme.txt").write_text("hello\n")
    page.goto("/")
    page.get_by_role("button", name="Choose a game's folder").click()
    field = page.get_by_label("Folder or file")
    expect(field).not_to_have_value("")  # the folder to begin with
    field.fill(str(tmp_path))
    page.get_by_role("button", name="Go there").click()
    check_access(page, "choosing a folder")
    page.get_by_role("button", name="empty game").click()
    page.get_by_role("button", name="Open this folder as a game").click()
    # The page goes to the game at once, while it is still being listed.
    page.get_by_role("grid").wait_for(timeout=15_000)
    stage(page, "Open").click()
    expect(page.get_by_role("heading", name="No archive was recognised")).to_be_visible()


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_every_view_can_be_reached_and_read(page: Page, theme: str) -> None:
    if theme == "dark":
        page.get_by_role("button", name="Dark theme").click()
    check_access(page, "find")
    page.get_by_role("radio", name="List").click()
    check_access(page, "find, as a list")
    stage(page, "Edit").click()
    check_access(page, "edit, empty")
    stage(page, "Open").click()
    expect(page.get_by_text("Proved.")).to_have_count(5)
    check_access(page, "open")
    stage(page, "Find").click()
    fill_white(Path(put_in_work(page, "harbour lighthouse")))
    expect(page.get_by_text("filled with white").first).to_be_visible(timeout=15_000)
    check_access(page, "edit")
    stage(page, "Check").click()
    expect(page.get_by_role("heading", name="1 edit would")).to_be_visible()
    check_access(page, "check")
    stage(page, "Build").click()
    page.get_by_role("button", name="Build", exact=True).wait_for()
    check_access(page, "build")
    page.get_by_role("button", name="Build", exact=True).click()
    expect(page.get_by_role("heading", name="The game has your edits")).to_be_visible(timeout=20_000)
    check_access(page, "built")
    stage(page, "Try").click()
    expect(page.get_by_role("heading", name="What it loaded")).to_be_visible(timeout=20_000)
    check_access(page, "try")
    page.keyboard.press("Control+k")
    page.get_by_placeholder("What would you like to do?").wait_for()
    check_access(page, "actions")
    page.keyboard.press("Escape")
    _with_five_jobs(page)
    stage(page, "Find").click()
    expect(page.get_by_role("progressbar")).to_have_count(2)
    check_access(page, "find, while five jobs run")
    page.get_by_role("button", name="3 more").click()
    expect(page.get_by_role("progressbar")).to_have_count(5)
    page.goto("/")
    page.get_by_role("button", name="Go to the demo game").wait_for()
    check_access(page, "games")


def _with_five_jobs(page: Page) -> None:
    """From the next page on five jobs run, as when several games are looked through at once."""
    job = page.evaluate("fetch('/api/jobs').then(answer => answer.json()).then(jobs => jobs[0])")
    jobs = [{**job, "id": number, "state": "running", "done": 1, "total": 5} for number in range(1, 6)]
    page.route("**/api/jobs", lambda route: route.fulfill(json=jobs))
    page.reload()


def test_an_unknown_archive_is_brought_to_its_proof(page: Page, tmp_path: Path) -> None:
    folder = unknown_game(tmp_path)
    open_folder(page, folder)
    # It is looked for by itself, and can be looked for again.
    file = page.get_by_role("listitem", name="islets.lz")
    text = file.get_by_label("The layout")
    text.wait_for(timeout=60_000)
    wait_for_jobs(page)
    file.get_by_role("button", name="Look again").click()
    wait_for_jobs(page)
    assert "role: stored-size" in text.input_value()
    check_access(page, "structure")
    text.fill(text.input_value().replace("title: LZLZ archive", "title: Islets"))
    file.get_by_role("button", name="Use this layout").click()
    page.get_by_text("Proved.").wait_for(timeout=30_000)
    expect(page.get_by_text("Islets", exact=True)).to_be_visible()
    expect(page.get_by_role("listitem", name="islets.lz")).to_have_count(0)


def test_the_workshop_brings_an_archive_to_its_proof(page: Page, tmp_path: Path) -> None:
    """Bytes are chosen and named, the table is written by hand, and everything is read again while one types."""
    open_folder(page, unknown_game(tmp_path))
    page.get_by_role("listitem", name="islets.lz").get_by_role("link", name="Describe it in the workshop").click()
    grid = page.get_by_role("group", name="Bytes")
    grid.wait_for()
    expect(page.get_by_text("0.0 % explained")).to_be_visible()
    expect(page.get_by_text("Nothing says yet where the members are.")).to_be_visible()

    def name_bytes(first: int, last: int, says: str, name: str) -> None:
        cells = grid.locator("span[title]")
        cells.nth(first).hover()
        page.mouse.down()
        cells.nth(last).hover()
        page.mouse.up()
        page.get_by_label("These are").select_option(label=says)
        page.get_by_label("called").fill(name)
        page.get_by_role("button", name="Write it down").click()
        expect(page.get_by_text(f"described as {name}")).to_be_visible()

    name_bytes(0, 3, "always these bytes", "magic")
    name_bytes(4, 7, "a number", "count")
    expect(page.get_by_text("described as count = 8")).to_be_visible()
    text = page.get_by_label("The description")
    assert 'value: "LZLZ"' in text.inner_text()
    check_access(page, "workshop")
    # A mistake is told on its line, and the bytes that could be read stay described.
    layout = BY_NAME["lzss"].layout
    text.click()
    page.keyboard.press("Control+a")
    page.keyboard.insert_text(layout.replace("count: count", "count: amount"))
    expect(page.get_by_role("status").filter(has_text="'amount'")).to_be_visible()
    page.locator(".cm-lint-marker-error").wait_for()
    text.click()
    page.keyboard.press("Control+a")
    page.keyboard.insert_text(layout)
    expect(page.get_by_text("Proved.")).to_be_visible(timeout=15_000)
    expect(page.get_by_text("100.0 % explained")).to_be_visible()
    expect(page.get_by_role("table")).to_contain_text("orfasay")
    # Find bytes: exactly one place, or how many.
    page.get_by_role("searchbox", name="Find bytes").fill("swona")
    page.keyboard.press("Enter")
    expect(page.get_by_text("1 of 16")).to_be_visible()
    page.keyboard.press("Enter")
    expect(page.get_by_text("2 of 16")).to_be_visible()
    check_access(page, "workshop, proved")
    page.reload()
    expect(page.get_by_text("Proved.")).to_be_visible(timeout=15_000)
    page.get_by_role("button", name="Use this layout").click()
    page.get_by_text("Proved.").wait_for(timeout=30_000)
    expect(page.get_by_role("heading", name="islets.lz")).to_be_visible()


def test_a_member_is_described_in_its_archive(page: Page) -> None:
    """What is in an archive and of no kind: its bytes, a description of a texture, and the picture it gives."""
    page.goto("/p/skerry-post/open")
    sort = page.get_by_role("listitem", name=".raw", exact=True)
    expect(sort.get_by_text("4 members")).to_be_visible()
    sort.get_by_role("link", name="Describe it in the workshop").click()
    expect(page.get_by_text("Nothing says yet where the pixels are.")).to_be_visible()
    page.get_by_label("The description").click()
    page.keyboard.press("Control+a")
    page.keyboard.insert_text(
        'layout: wood-grain\ntitle: Wood grain\nkind: texture\nmatch: {names: ["*.raw"], size: 10936}\nparts:\n'
        "  - {pixels: pixels, facts: {width: 128, height: 128, format: bc1, mips: 8}}\n"
    )
    expect(page.get_by_role("img", name="As it is described now")).to_have_js_property("naturalWidth", 128)
    expect(page.get_by_text("128 × 128, BC1, 8 mip levels")).to_be_visible()
    check_access(page, "workshop, a texture in an archive")
    page.get_by_role("button", name="Use this layout").click()
    page.wait_for_url("**/open", timeout=30_000)
    expect(page.get_by_role("listitem", name=".raw", exact=True)).to_have_count(0, timeout=30_000)


def test_texts_sounds_and_whole_folders(page: Page, tmp_path: Path) -> None:
    """A text and a sound are edited as pictures are; many items go to a folder and come back."""
    letter = Path(edit_one(page, "letters/03"))
    letter.write_text(letter.read_text().replace("tide", "storm") + "One line more.\n")
    expect(page.get_by_role("status").filter(has_text="2 of 6 lines differ.")).to_be_visible(timeout=15_000)
    page.get_by_role("radio", name="Changed lines only").click()
    expect(page.get_by_role("cell", name="One line more.")).to_be_visible()
    check_access(page, "edit of a text")

    page.goto("/p/skerry-post/find")
    bell = Path(edit_one(page, "bell/01"))
    samples, rate = soundfile.read(bell)
    soundfile.write(bell, np.stack([samples, samples], axis=1) * 0.1, rate, subtype="PCM_24")
    expect(page.get_by_role("img", name="Waveform of the edit")).to_be_visible(timeout=15_000)
    page.get_by_role("button", name="Bring it to the original's loudness").click()
    expect(page.get_by_text("Put right: bring it to the original's loudness.")).to_be_visible(timeout=15_000)
    page.get_by_role("radio", name="Original").click()
    assert "which=original" in str(page.locator("audio").first.get_attribute("src"))
    check_access(page, "edit of a sound")
    expect(page.get_by_text("Is it stored again, in another size?")).to_have_count(0)
    page.get_by_role("radio", name="Spectrum").click()
    for name in ("original", "edit"):
        expect(page.get_by_role("img", name=f"Spectrum of the {name}")).to_be_visible()
    drawn = page.locator("img[src*=spectrum]")
    expect(drawn).to_have_count(2)
    for number in range(2):
        expect(drawn.nth(number)).to_have_js_property("naturalWidth", 2048)

    # A voice line in its place: its words are found, and one that is not said there is told.
    spoken = speak("the lighthouse keeper is asleep")
    soundfile.write(bell, spoken.samples, spoken.rate, subtype="PCM_16")
    seconds = f"{len(spoken.samples) / spoken.rate:.3f} s"
    expect(page.get_by_text(f"{seconds} · ")).to_be_visible(timeout=15_000)
    page.get_by_role("radio", name="Edit").click()
    page.get_by_label("What is said in it").fill("the lighthouse keeper is asleep")
    page.get_by_role("button", name="Place the words").click()
    words = page.get_by_role("group", name="Words and phonemes").get_by_role("button")
    expect(words).to_have_text(["the", "lighthouse", "keeper", "is", "asleep"], timeout=15_000)
    check_access(page, "words of a sound")
    page.get_by_label("What is said in it").fill("seven parcels for the island")
    page.get_by_role("button", name="Place the words").click()
    expect(page.get_by_text("does not sound like the sentence")).to_be_visible(timeout=15_000)

    page.goto("/p/skerry-post/find?q=boat&where=kind:texture")
    page.get_by_role("status").filter(has_text=re.compile("^4 items")).wait_for()
    page.get_by_role("button", name="Folder").click()
    page.get_by_label("Folder", exact=True).fill(str(tmp_path / "out"))
    page.get_by_role("button", name="Send all 4 items here").click()
    expect(page.get_by_text("4 files written")).to_be_visible(timeout=15_000)
    paint_sail(tmp_path / "out/data/harbour.kist/textures/boat/sail.ptx.png")
    (tmp_path / "out/notes.md").write_text("mine")
    check_access(page, "many at once")
    page.get_by_role("button", name="Take the folder back").click()
    expect(page.get_by_text("1 file taken, 3 untouched")).to_be_visible(timeout=15_000)
    page.get_by_text("These files belong to no item of the game: 1").click()
    expect(page.get_by_role("listitem").filter(has_text="notes.md").last).to_be_visible()


def test_the_click_of_a_loop_is_put_right_and_heard_in_the_game(page: Page, game: Path) -> None:
    """Another recording for the bell: of another rate, in stereo, faint, and its loop does not close."""
    file = Path(edit_one(page, "bell/00"))
    original = sound_file(file.read_bytes())
    time = np.arange(round(original.seconds * 48_000)) / 48_000
    tone = 0.02 * np.sin(2 * np.pi * 401.3 * time)
    soundfile.write(file, np.stack([tone, tone], axis=1), 48_000, subtype="PCM_24")
    expect(page.get_by_text("where the loop begins again")).to_be_visible(timeout=15_000)
    for label in ("Blend the end of the loop into its beginning", "Bring it to the original's loudness"):
        page.get_by_role("button", name=label).click()
        expect(page.get_by_text(f"Put right: {label[0].lower()}{label[1:]}.")).to_be_visible(timeout=15_000)
    page.get_by_role("radio", name="Equally loud").click()
    page.get_by_role("button", name="Zoom in").click()
    page.get_by_role("img", name="Waveform of the edit").hover()
    expect(page.get_by_text(re.compile(r"s · sample [\d,]+"))).to_be_visible()
    check_access(page, "a bell with a loop")
    build(page)
    stored = open_path(game / "data/harbour.kist", [], Library.of([LAYOUTS])).container
    made = sound_file(stored.read(stored.index_of("sounds/bell/00.wav")))
    assert (made.rate, made.channels, len(made.loops)) == (22_050, 1, 1)
    assert jump(made.samples, made.loops[0], made.rate) == 0
    page.get_by_role("link", name="See it in the game").click()
    heard = page.get_by_role("region", name="What is heard")
    heard.get_by_role("button", name="bell/00.wav").click()
    expect(page.get_by_text("sounds/bell/00.wav: rung on 3 times")).to_be_visible()


def _plays(page: Page, which: str) -> None:
    """Wait until this one is heard, and nothing beside it."""
    heard: list[str] = []
    for _ in range(60):
        heard = page.evaluate(
            "[...document.querySelectorAll('audio')].filter(one => !one.paused).map(one => one.src)"
        )
        if len(heard) == 1 and f"which={which}" in heard[0]:
            return
        page.wait_for_timeout(100)
    raise AssertionError(f"{which} is not what is heard: {heard}")


def test_a_tune_is_heard_without_a_gap_and_seen_by_its_channels(page: Page, game: Path) -> None:
    page.goto("/p/skerry-post/find")
    edit_one(page, "bell/03")
    page.goto("/p/skerry-post/find")
    file = Path(edit_one(page, "tunes/crossing"))
    time = np.arange(round(10.8 * 22_050)) / 22_050
    left, right = 0.2 * np.sin(2 * np.pi * 330 * time), 0.1 * np.sin(2 * np.pi * 660 * time)
    soundfile.write(file, np.stack([left, right], axis=1), 22_050, subtype="PCM_16")
    expect(page.get_by_role("img", name="Waveform of the edit")).to_be_visible(timeout=15_000)
    expect(page.get_by_text("What encoding cost: signal to noise")).to_be_visible()
    page.get_by_role("button", name="Channels apart").click()
    expect(page.get_by_role("list", name="Channels").first).to_have_text("leftright")
    check_access(page, "a tune by its channels")
    page.get_by_role("button", name="Play").click()
    _plays(page, "edit")
    page.keyboard.press("x")
    _plays(page, "original")
    place = "Math.max(...[...document.querySelectorAll('audio')].map(one => one.paused ? 0 : one.currentTime))"
    assert page.evaluate(place) > 0, "it goes on where it was"
    page.get_by_role("radio", name="What encoding lost").click()
    _plays(page, "lost")
    page.get_by_role("button", name="Stop", exact=True).click()
    page.keyboard.press("n")
    expect(page.get_by_role("heading", name="sounds/bell/03.wav")).to_be_visible()
    page.keyboard.press("p")
    expect(page.get_by_role("heading", name="tunes/crossing.ogg")).to_be_visible()
    # On the table a sound is heard while the pointer rests on it.
    page.goto("/p/skerry-post/find?q=kind:sound bell/05")
    page.get_by_role("searchbox").click()
    tile = page.get_by_role("row", name="sounds/bell/05.wav")
    tile.hover()
    expect(tile.locator("[data-heard]")).to_be_visible()
    tile.get_by_role("button").click()
    expect(tile.locator("[data-heard]")).to_have_count(0)
    build_all = open_path(game / "data/harbour.kist", [], Library.of([LAYOUTS])).container
    assert sound_file(build_all.read(build_all.index_of("tunes/crossing.ogg"))).loops


def test_words_in_the_cue_points_of_a_sound_are_dragged(page: Page, tmp_path: Path) -> None:
    """A game of one voice line, whose labels are words and phonemes by a layout in its folder."""
    game = tmp_path / "ferry"
    (game / GAME_LAYOUTS).mkdir(parents=True)
    (game / GAME_LAYOUTS / "lines.yaml").write_text(
        "layout: ferry-lines\ntitle: Lines\nkind: sound\nmatch: {names: ['*.wav']}\nparts:\n"
        "  - {track: said, cues: label, line: '{level}:{word}', levels: {w: word, p: phoneme}}\n"
    )
    points = [(1, 2000, {"label": "w:boat"}), (2, 2000, {"label": "p:B"}), (3, 6000, {"label": "p:OW"})]
    (game / "line.wav").write_bytes(spoken_line(points))
    open_folder(page, game)
    page.goto("/p/ferry/find?q=line.wav")
    page.get_by_role("status").filter(has_text=re.compile("^1 item$")).wait_for()
    page.get_by_role("button", name="Edit", exact=False).last.click()
    page.get_by_role("radio", name="What is said in it").click()
    phonemes = page.get_by_role("group", name="phonemes", exact=True).get_by_role("button")
    expect(phonemes).to_have_text(["B", "OW"])
    check_access(page, "words in a sound")
    phonemes.first.click()
    page.keyboard.press("Shift+ArrowRight")
    expect(page.get_by_role("heading", name="line.wav")).to_be_visible()
    expect(page.get_by_text("Times moved")).to_be_visible(timeout=15_000)
    build(page)
    samples = {one["label"]: one["sample"] for one in points_of((game / "line.wav").read_bytes()).values()}
    assert samples["p:OW"] == 6160, "a hundredth of a second later"
    assert samples["w:boat"] == 2000


def test_a_sentence_is_placed_dragged_and_moves_the_mouth_in_the_game(page: Page, game: Path) -> None:
    text = "come down to the harbour"
    line = Path(edit_one(page, "voices/ishbel_1 kind:sound"))
    spoken = speak(text, "en-us+f3")
    soundfile.write(line, spoken.samples, spoken.rate, subtype="PCM_16")
    expect(page.get_by_role("img", name="Waveform of the edit")).to_be_visible(timeout=15_000)
    page.get_by_role("link", name="ishbel_1.mth").click()
    expect(page.get_by_role("heading", name="voices/ishbel_1.mth")).to_be_visible()
    page.get_by_role("button", name="Edit this").click()
    expect(page.get_by_text("as it is edited")).to_be_visible(timeout=15_000)
    words = page.get_by_role("group", name="words", exact=True).get_by_role("button")
    expect(words.first).to_have_text("rain")
    page.get_by_label("What is said in it").fill(text)
    page.get_by_role("button", name="Place the words").click()
    expect(words).to_have_text(text.split(), timeout=20_000)
    expect(page.get_by_text("The game knows other phonemes")).to_be_visible(timeout=15_000)
    phonemes = page.get_by_role("group", name="phonemes", exact=True).get_by_role("button")
    vowel = phonemes.nth(1)
    before = str(vowel.get_attribute("title"))
    page.get_by_role("checkbox", name="Snap to the sound").uncheck()
    box = vowel.bounding_box()
    assert box is not None
    right = box["x"] + box["width"]
    page.mouse.move(right - 2, box["y"] + 12)
    page.mouse.down()
    page.mouse.move(right + 14, box["y"] + 12, steps=4)
    page.mouse.up()
    expect(page.get_by_role("listitem").filter(has_text="Times moved")).to_be_visible(timeout=15_000)
    assert vowel.get_attribute("title") != before
    page.keyboard.press("ArrowRight")  # by the keyboard too
    expect(page.get_by_role("listitem").filter(has_text="Times moved")).to_have_count(2, timeout=15_000)
    page.keyboard.press("PageDown")
    expect(phonemes.nth(2)).to_be_focused()
    page.get_by_role("button", name="Split").click()
    expect(page.get_by_text("Split in two")).to_be_visible(timeout=15_000)
    page.keyboard.press("Control+z")
    check_access(page, "a voice track")
    expect(page.get_by_text("Split in two")).to_be_visible()
    build(page)
    bundle = open_path(game / "data/figures.bundle", [], Library.of([LAYOUTS])).container
    assert b"harbour\0" in bundle.read(bundle.index_of("voices/ishbel_1.mth"))
    page.get_by_role("link", name="See it in the game").click()
    expect(page.get_by_text("The game takes everything")).to_be_visible(timeout=20_000)
    heard = page.get_by_role("region", name="What is heard")
    heard.get_by_role("button", name="ishbel_1").click()
    shapes: set[str] = set()
    for _ in range(60):
        shapes.add(str(heard.get_by_role("img").get_attribute("aria-label")))
        page.wait_for_timeout(25)
    assert len(shapes) > 3, shapes


def drawn(page: Page, name: str = "original") -> np.ndarray:
    """What a model's canvas shows: uint8 (height, width, 4)."""
    canvas = page.get_by_role("img", name=f"The model, {name}")
    expect(canvas).to_have_attribute("data-ready", "true", timeout=20_000)
    page.wait_for_timeout(400)  # textures come after the model
    data = base64.b64decode(str(canvas.evaluate("canvas => canvas.toDataURL()")).partition(",")[2])
    return np.asarray(Image.open(io.BytesIO(data)).convert("RGBA"))


def test_the_page_draws_a_model_as_the_core_does(page: Page, game: Path) -> None:
    """three.js with our formulas beside the core's own drawing: the same model, side and light."""
    edit_one(page, "models/boat kind:mesh")
    page.get_by_role("checkbox", name="Textures").uncheck()
    for name, value in (("In the shade", "0.5"), ("Highlight", "0.6"), ("Exponent", "12")):
        page.get_by_role("slider", name=name).fill(value)
    there = drawn(page)
    height, width = there.shape[:2]
    left = (width - height) // 2
    there = np.asarray(Image.fromarray(there[:, left : left + height]).resize((256, 256), Image.Resampling.BOX))
    bundle = open_path(game / "data/figures.bundle", [], Library.of([LAYOUTS])).container
    boat = kinds()["mesh"].read(
        bundle.read(bundle.index_of("models/boat.shp")), Context(Library.of([LAYOUTS]), "models/boat.shp")
    )
    light = Light((-0.6, 0.3, 0.74), 0.5, 0.6, 12)
    here = picture(boat.mesh, 256, light=light, steady=True)
    both = (there[..., 3] == 255) & (here[..., 3] == 255)
    outlines = there[..., 3] > 127, here[..., 3] > 127
    assert (outlines[0] & outlines[1]).sum() > 0.97 * (outlines[0] | outlines[1]).sum()
    assert np.abs(there[both].astype(int) - here[both]).mean() < 3
    page.get_by_role("button", name="As in the game").click()
    page.get_by_role("checkbox", name="Textures").check()
    dressed = drawn(page)
    assert np.abs(dressed[..., :3].astype(int) - drawn(page)[..., :3]).max() == 0
    page.get_by_role("img", name="The model, original").focus()
    page.keyboard.press("ArrowRight")
    assert (drawn(page) != dressed).any()
    check_access(page, "a model")


PANE = """
layout: pane
title: Pane
kind: mesh
match: {names: ["*.pane"]}
parts:
  - {field: part_count, type: u32, is: count(pieces)}
  - table: pieces
    count: part_count
    record:
      - {field: many, type: u32, role: index-count}
      - {field: material, type: string, length: 8, role: name}
  - vertices: corners
    count: 4
    attributes:
      - {attribute: POSITION, type: f32, of: 3}
      - {attribute: NORMAL, type: f32, of: 3}
      - {attribute: TEXCOORD_0, type: f32, of: 2}
  - {indices: faces, count: 6, type: u16, parts: pieces, materials: "{material}.mat"}
"""
CLOTH = """
layout: cloth
title: Cloth
kind: material
match: {names: ["*.mat"]}
parts:
  - material: values
    text: {}
    textures: {colour: colour, normal: normal, occlusion: shade}
    numbers: {opacity: {key: opacity, least: 0, most: 1}}
"""


def test_normal_maps_bend_the_light_as_the_formulas_say(page: Page, tmp_path: Path) -> None:
    """A pane that looks at one: what its middle shows is worked out here from Lambert's cosine (no highlight)."""
    folder = tmp_path / "panes"
    (folder / "brae-layouts").mkdir(parents=True)
    (folder / "brae-layouts/pane.yaml").write_text(PANE)
    (folder / "brae-layouts/cloth.yaml").write_text(CLOTH)
    corners = [(-1, -1, 0, 0, 1), (1, -1, 0, 1, 1), (1, 1, 0, 1, 0), (-1, 1, 0, 0, 0)]
    body = b"".join(struct.pack("<8f", x, y, z, 0, 0, 1, u, v) for x, y, z, u, v in corners)
    pictures = {"grey": (200, 200, 200), "tilt": (204, 128, 230), "up": (128, 204, 230), "half": (128, 0, 0)}
    with zipfile.ZipFile(folder / "panes.zip", "w") as archive:
        for name, colour in pictures.items():
            stream = io.BytesIO()
            Image.new("RGB", (16, 16), colour).save(stream, "png")
            archive.writestr(f"{name}.png", stream.getvalue())
        written = {
            "plain": "", "right": "normal = tilt.png\n", "above": "normal = up.png\n", "dim": "shade = half.png\n",
            "glass": "opacity = 0.5\n",
        }  # fmt: skip
        for name, maps in written.items():
            archive.writestr(f"{name}.mat", f"colour = grey.png\n{maps}")
            archive.writestr(
                f"{name}.pane",
                struct.pack("<II8s", 1, 6, name.encode()) + body + struct.pack("<6H", 0, 1, 2, 0, 2, 3),
            )
    open_folder(page, folder)
    wait_for_jobs(page)
    across, up = np.radians(35), np.radians(18)
    turn = np.array([[np.cos(across), 0, np.sin(across)], [0, 1, 0], [-np.sin(across), 0, np.cos(across)]])
    tilt = np.array([[1, 0, 0], [0, np.cos(up), -np.sin(up)], [0, np.sin(up), np.cos(up)]])
    light = np.array([-0.45, 0.6, 0.66])
    shown = {}
    told_of = {
        "plain": (0, 0, 1),
        "right": (0.6, 0, 0.8),
        "above": (0, 0.6, 0.8),
        "dim": (0, 0, 1),
        "glass": (0, 0, 1),
    }
    for name, told in told_of.items():
        page.goto("/p/panes/find")
        edit_one(page, f"{name}.pane")
        picture = drawn(page)
        shown[name] = int(picture[picture.shape[0] // 2, picture.shape[1] // 2, 0])
        normal = tilt @ turn @ np.array(told)
        facing = max(float(normal @ light / np.linalg.norm(light)), 0)
        least = 0.28 * (128 / 255 if name == "dim" else 1)
        assert shown[name] == pytest.approx(200 * (least + (1 - 0.28) * facing), abs=4), name
        assert picture[picture.shape[0] // 2, picture.shape[1] // 2, 3] == pytest.approx(
            128 if name == "glass" else 255, abs=2
        )
    assert len({one for name, one in shown.items() if name != "glass"}) == 4


def test_the_lighthouse_gets_another_texture_and_is_seen_in_it(page: Page) -> None:
    edit_one(page, "models/lighthouse kind:mesh")
    before = drawn(page)
    page.goto("/p/skerry-post/find")
    edit_one(page, "materials/lighthouse kind:material")
    textures = page.get_by_role("region", name="Textures")
    textures.get_by_label("colour texture").fill("textures/harbour/jetty")
    textures.get_by_label("colour texture").press("Enter")
    expect(page.get_by_text("ready to build").first).to_be_visible(timeout=15_000)
    page.get_by_role("region", name="Editing").get_by_role("link", name="lighthouse.shp").click()
    assert (drawn(page) != before).mean() > 0.02
    page.get_by_role("region", name="Editing").get_by_role("link", name="lighthouse.txt").click()
    build(page)
    page.get_by_role("link", name="See it in the game").click()
    expect(page.get_by_text("The game takes everything")).to_be_visible(timeout=20_000)


def test_the_lighthouse_gets_a_new_material_with_a_new_texture(page: Page, tmp_path: Path, game: Path) -> None:
    before = digests(game)
    bands = np.full((300, 150, 3), (190, 40, 40), np.uint8)
    bands[::60] = bands[30::60] = (245, 240, 230)
    Image.fromarray(bands).save(tmp_path / "bands.png")
    page.goto("/p/skerry-post/find?q=materials/lighthouse kind:material")
    page.get_by_role("button", name="Make a new one like it").click()
    page.get_by_label("Its name in the game").fill("materials/bands.txt")
    page.get_by_role("radio", name="a new one for tower.ptx").click()
    page.get_by_role("radio", name="the same as now").click()
    expect(page.get_by_label("The file that it is made of")).to_have_count(0)
    page.get_by_role("radio", name="a new one for tower.ptx").click()
    expect(page.get_by_label("The name of the new one")).to_have_value("skins/bands.ptx")
    page.get_by_label("The file that it is made of").set_input_files(tmp_path / "bands.png")
    page.get_by_role("radio", name="by its length in the world").click()
    page.get_by_label("Units of its longer side").fill("32")
    page.get_by_label("models/lighthouse.shp").check()
    check_access(page, "a new item")
    page.get_by_role("button", name="Make it").click()
    # The model is shown in the light, in its new texture beside the old one.
    expect(page.get_by_role("heading", name="models/lighthouse.shp")).to_be_visible()
    expect(page.get_by_text("ready to build").first).to_be_visible(timeout=15_000)
    assert (drawn(page, "edit") != drawn(page)).mean() > 0.02
    page.goto("/p/skerry-post/find?q=edited:made")
    expect(page.get_by_role("status").filter(has_text=re.compile("^2 items"))).to_be_visible()
    page.get_by_role("option", name=re.compile("bands.ptx")).or_(page.get_by_text("bands.ptx")).first.click()
    expect(page.get_by_label("Chosen item").get_by_text("128")).to_be_visible()
    page.goto("/p/skerry-post/build")
    expect(page.get_by_text("2 of its members are new: what follows moves")).to_be_visible()
    page.get_by_role("button", name="Build", exact=True).click()
    expect(page.get_by_role("heading", name="The game has your edits")).to_be_visible(timeout=20_000)
    page.get_by_role("link", name="See it in the game").click()
    expect(page.get_by_text("The game takes everything")).to_be_visible(timeout=20_000)
    stage(page, "Build").click()
    page.get_by_role("button", name="Restore every original").click()
    page.get_by_role("button", name="Put all of it back").click()
    expect(page.get_by_text("as it was").or_(page.get_by_text("as they were")).first).to_be_visible(timeout=20_000)
    assert digests(game) == before
    page.goto("/p/skerry-post/find?q=edited:made")
    page.get_by_role("button", name="Take it away").click()
    expect(page.get_by_role("status").filter(has_text="1 item")).to_be_visible()


def test_the_postwoman_gets_an_outline_and_keeps_her_bones(page: Page) -> None:
    edit_one(page, "models/postwoman kind:mesh")
    parts = page.get_by_role("region", name="Parts")
    drawn(page)
    room = page.get_by_role("img", name=re.compile("^The model, original")).bounding_box()
    assert room is not None
    for place in (0.59, 0.6):
        page.mouse.move(room["x"] + room["width"] / 2, room["y"] + room["height"] * place)
    expect(page.locator("figure").get_by_text("coat")).to_be_visible()
    parts.get_by_label("bag").check()
    parts.get_by_role("button", name="Flip coordinates").click()
    expect(page.get_by_text("coordinates flipped: bag")).to_be_visible(timeout=15_000)
    page.get_by_role("button", name="Add it").click()
    expect(page.get_by_text("The copy for further away still shows the old shape")).to_be_visible(timeout=15_000)
    page.get_by_role("button", name="Make the copies for further away anew of the new shape").click()
    expect(page.get_by_text("ready to build").first).to_be_visible(timeout=15_000)
    expect(page.get_by_role("img", name="The triangles over it")).to_be_visible()
    check_access(page, "a model with bones")
    page.goto("/p/skerry-post/find")
    edit_one(page, "swaps/harbour kind:swap")
    page.get_by_role("button", name="Another swap").click()
    for label, text in (("Object of", "boat"), ("Replaced by", "sail"), ("In its place by", "hul")):
        page.get_by_label(f"{label} swap 2").fill(text)
    page.get_by_role("button", name="Take this over").click()
    page.get_by_role("button", name="Write hull").click()
    expect(page.get_by_text("ready to build").first).to_be_visible(timeout=15_000)
    check_access(page, "a swap list")
    page.goto("/p/skerry-post/build")
    page.get_by_role("button", name="Build", exact=True).click()
    expect(page.get_by_role("heading", name="The game has your edits")).to_be_visible(timeout=20_000)
    page.get_by_role("link", name="See it in the game").click()
    expect(page.get_by_text("The game takes everything")).to_be_visible(timeout=20_000)
    expect(
        page.get_by_text(re.compile("models/postwoman: 960 triangles in 3 parts, [0-9]+ from some"))
    ).to_be_visible()
    expect(page.get_by_text("the boat wears hull in the place of sail")).to_be_visible()


def test_a_boat_that_an_editor_joined_is_put_right_and_sails(page: Page) -> None:
    """Out as .glb, back as one part under another name, higher than before."""
    file = Path(edit_one(page, "models/boat kind:mesh"))
    scene = trimesh.load(file, force="scene")
    whole = trimesh.util.concatenate([
        trimesh.Trimesh(one.vertices * [1, 1.2, 1], one.faces, vertex_normals=one.vertex_normals, process=False)
        for one in scene.geometry.values()
    ])  # fmt: skip
    at = np.concatenate([one.visual.uv for one in scene.geometry.values()])
    whole.visual = trimesh.visual.TextureVisuals(
        uv=at, material=trimesh.visual.material.PBRMaterial(name="Mat.001")
    )
    file.write_bytes(whole.export(file_type="glb"))
    expect(page.get_by_text("1 part fewer than the original's 2")).to_be_visible(timeout=15_000)
    label = "Keep the original's parts: join what is more, leave empty what is missing"
    page.get_by_role("button", name=label).click()
    expect(page.get_by_text("ready to build").first).to_be_visible(timeout=15_000)
    assert (drawn(page, "edit") != drawn(page)).any()
    build(page)
    page.get_by_role("link", name="See it in the game").click()
    expect(page.get_by_text("The game takes everything")).to_be_visible(timeout=20_000)
    expect(page.get_by_text("models/boat: 512 triangles in 2 parts")).to_be_visible()


def build(page: Page) -> None:
    """Everything that is edited into the game."""
    page.get_by_role("link", name="Build this edit into the game").click()
    page.get_by_role("button", name="Build", exact=True).click()
    expect(page.get_by_role("heading", name="The game has your edits")).to_be_visible(timeout=20_000)


def test_a_kind_of_another_package_has_its_page(browser: Browser, tmp_path: Path) -> None:
    """The page knows nothing of flags: facets, pictures, lines and findings come from what the kind declares."""
    game = harbour(tmp_path / "harbour")
    with served(tmp_path / "home", "serve", env={"PYTHONPATH": str(FLAGS)}) as address:
        page = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=base(address)).new_page()
        page.goto(address)
        open_folder(page, game)
        stage(page, "Find").click()
        page.get_by_role("checkbox", name="Flags").click()
        expect(page.get_by_role("status").filter(has_text=re.compile("^2 items"))).to_be_visible()
        expect(page.get_by_role("group", name="Top stripe").get_by_text("white")).to_be_visible()
        page.get_by_role("grid").get_by_role("row").nth(0).click()
        expect(page.get_by_label("Chosen item").get_by_text("Columns")).to_be_visible()
        picture = page.get_by_role("grid").locator("img").first
        page.wait_for_function("image => image.complete && image.naturalWidth > 0", arg=picture.element_handle())
        page.get_by_role("button", name="Edit this").click()
        file = Path(page.locator("aside").get_by_text(re.compile(r"^/.*\.json$")).first.inner_text())
        file.write_text('{"stripes": ["#102030", "#405060", "#708090"], "columns": 5}')
        page.get_by_role("button", name="Take the number of columns from the original").click(timeout=15_000)
        expect(page.get_by_text("ready to build").first).to_be_visible(timeout=15_000)
        stage(page, "Build").click()
        page.get_by_role("button", name="Build", exact=True).click()
        page.get_by_role("heading", name="The game has your edits").wait_for(timeout=20_000)
        check_access(page, "build of a kind from outside")
        with zipfile.ZipFile(game / "mast.zip") as archive:
            assert archive.read("flags/north.flg")[4:14] == bytes.fromhex("102030405060708090") + b"\x08"
        page.context.close()
