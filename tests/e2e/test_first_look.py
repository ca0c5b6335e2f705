"""A folder with an archive that nobody has described, by signs alone: to a changed picture in it, and back."""

from __future__ import annotations

import io
import re
import struct
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Page, expect

from brae.core.layouts.library import FOLDER
from tests.core.families import BY_NAME
from tests.core.signs.mixture import Mixture, crate
from tests.e2e.driver import base, chromium, served
from tests.e2e.test_pages import check_access
from tests.e2e.tour import open_folder, stage, unknown_game, wait_for_jobs
from tests.work.test_first_look import FILE

pytestmark = [pytest.mark.browser]


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    mixture, folder = Mixture(8), tmp_path / "Far Isles"
    folder.mkdir()
    files = [mixture.makers[name]() for name in ("png", "wav", "tga", "dds", "jpeg", "ogg", "bmp", "gif") * 2]
    (folder / FILE).write_bytes(crate(files))
    (folder / "sealed.bin").write_bytes(np.random.default_rng(1).bytes(70_000))
    return folder


@pytest.fixture
def page(tmp_path: Path) -> Iterator[Page]:
    with chromium() as browser, served(tmp_path / "home", "serve") as address:
        context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=base(address))
        page = context.new_page()
        page.goto(address)
        yield page
        context.close()


def _choose(page: Page, path: str) -> None:
    """Paste a path into the chooser, and go there."""
    page.get_by_role("button", name="Choose a game's folder").click()
    field = page.get_by_label("Folder or file")
    expect(field).not_to_have_value("")
    field.fill(path)
    field.press("Enter")


def test_from_an_unknown_folder_to_a_changed_picture_and_back(page: Page, folder: Path) -> None:
    before = (folder / FILE).read_bytes()
    _choose(page, f'"{folder}"')  # 1 and 2: with the quotes that a file manager puts around it
    entry = page.get_by_role("button", name=FILE)
    expect(entry).to_contain_text("begins with “CRTE”")
    expect(page.get_by_role("button", name="sealed.bin")).to_contain_text("68.4 KiB")
    check_access(page, "choosing a folder of unknown files")
    page.get_by_role("button", name="Open this folder as a game").click()  # 3
    grid = page.get_by_role("grid")
    grid.wait_for(timeout=60_000)
    expect(page.get_by_role("status").filter(has_text=re.compile("^16 items$"))).to_be_visible()
    grid.get_by_role("row", name=re.compile(r"\.png$")).first.click()  # 4
    expect(page.get_by_text("Unproved: found by its sign.")).to_be_visible()
    page.get_by_role("button", name="Edit this").click()  # 5
    file = Path(page.locator("aside").get_by_text(re.compile(r"^/.*\.png$")).first.inner_text())
    pixels = np.array(Image.open(file))
    pixels[:] = pixels[:1, :1]
    Image.fromarray(pixels).save(file)
    expect(page.get_by_text("ready to build").first).to_be_visible(timeout=60_000)
    stage(page, "Build").click()  # 6
    expect(page.get_by_text("unproved, by signs: a checksum elsewhere")).to_be_visible()
    page.get_by_role("button", name="Build", exact=True).click()  # 7
    page.get_by_role("heading", name="The game has your edits").wait_for(timeout=60_000)
    check_access(page, "built by signs")
    after = (folder / FILE).read_bytes()
    place = int(Path(file.name).name.split(".")[0])
    assert len(after) == len(before)
    assert after[:place] == before[:place]
    assert (np.array(Image.open(io.BytesIO(after[place:]))) == pixels[..., :3]).all()
    page.get_by_role("button", name="Restore").first.click()
    page.get_by_role("button", name="Put all of it back").click()
    expect(page.get_by_text(re.compile("all as they were|as it was")).first).to_be_visible(timeout=60_000)
    assert (folder / FILE).read_bytes() == before


def test_open_says_what_was_found_and_goes_on_by_itself(page: Page, folder: Path) -> None:
    """The line of each file, the structure that is found without asking, and the workshop that knows the files."""
    _choose(page, folder.as_uri())
    page.get_by_role("button", name="Open this folder as a game").click()
    page.get_by_role("grid").wait_for(timeout=60_000)
    stage(page, "Open").click()
    crates, sealed = page.get_by_role("listitem", name=FILE), page.get_by_role("listitem", name="sealed.bin")
    expect(crates.get_by_text("begins with “CRTE”")).to_be_visible(timeout=60_000)
    expect(crates.get_by_text("16 files of open formats found by their signs.")).to_be_visible()
    expect(sealed.get_by_text("looks packed or encrypted as a whole")).to_be_visible()
    expect(crates.get_by_role("button", name="Use this layout")).to_be_visible(timeout=60_000)
    expect(crates.get_by_text("Proved, byte for byte").first).to_be_visible()
    expect(sealed.get_by_role("button", name="Find its structure")).to_be_visible()
    check_access(page, "open, unknown files")
    crates.get_by_role("link", name="Describe it in the workshop").click()
    expect(page.get_by_text("16 files found by their signs, that the description does not reach")).to_be_visible()
    check_access(page, "workshop, found by signs")
    page.get_by_role("button", name="Put it here").click()
    expect(page.get_by_text("Proved.")).to_be_visible(timeout=60_000)
    expect(page.get_by_text("found by their signs, that")).to_have_count(0)


#: what docs/own-game.md writes, step by step
DESCRIPTION = """layout: crt
title: The crates of Far Isles
kind: archive
parts:
  - {field: magic, type: bytes, length: 4, value: "CRTE"}
  - {field: count, type: u32, is: count(list)}
  - {field: list_at, type: u32, is: offset(list)}
  - table: list
    count: count
    record:
      - {field: number, type: u32, role: id}
      - {field: at, type: u32, role: offset}
      - {field: size, type: u32, role: stored-size}
      - {field: seven, type: u32}
  - {members: files, of: list, align: 8, align_from: list_at + 16 * count}
"""


def test_an_archive_from_its_first_byte_to_a_build(page: Page, folder: Path) -> None:
    """By hand, as docs/own-game.md tells it: a larger file goes in, and everything moves that has to."""
    before = (folder / FILE).read_bytes()
    _choose(page, str(folder))
    page.get_by_role("button", name="Open this folder as a game").click()
    page.get_by_role("grid").wait_for(timeout=60_000)
    stage(page, "Open").click()
    page.get_by_role("listitem", name=FILE).get_by_role("link", name="Describe it in the workshop").click()
    text = page.get_by_label("The description")
    # Half of it first: what is there already is read, and what is missing is said.
    for upto, words in (("table: list", "Nothing says yet where the members are."), ("", "Proved.")):
        text.click()
        page.keyboard.press("Control+a")
        said = DESCRIPTION.partition("  - table: list")[0] if upto else DESCRIPTION
        page.keyboard.insert_text(said)
        expect(page.get_by_role("status").filter(has_text=words)).to_be_visible(timeout=60_000)
    expect(page.get_by_text("speaks against it")).to_have_count(0)
    page.get_by_role("button", name="Use this layout").click()
    page.wait_for_url("**/open", timeout=30_000)
    page.get_by_role("heading", name=FILE).wait_for()
    stage(page, "Find").click()
    records = struct.iter_unpack("<4I", before[12 : 12 + 16 * 16])
    number = next(number for number, at, _, _ in records if before[at : at + 4] == b"\x89PNG")
    page.get_by_role("searchbox").fill(str(number))
    page.get_by_role("status").filter(has_text=re.compile("^1 item$")).wait_for()
    page.get_by_role("grid").get_by_role("row").first.click()
    expect(page.get_by_text("Unproved: found by its sign.")).to_have_count(0)
    page.get_by_role("button", name="Edit this").click()
    file = Path(page.locator("aside").get_by_text(re.compile(r"^/.*\.\w+$")).first.inner_text())
    pixels = np.array(Image.open(file).convert("RGB"))
    noise = np.random.default_rng(5).integers(0, 256, pixels.shape, np.uint8)
    Image.fromarray(noise).save(file)
    expect(page.get_by_text("ready to build").first).to_be_visible(timeout=60_000)
    stage(page, "Build").click()
    page.get_by_role("button", name="Build", exact=True).click()
    page.get_by_role("heading", name="The game has your edits").wait_for(timeout=60_000)
    assert len((folder / FILE).read_bytes()) > len(before), "noise packs badly"
    page.get_by_role("button", name="Restore").first.click()
    page.get_by_role("button", name="Put all of it back").click()
    wait_for_jobs(page)
    assert (folder / FILE).read_bytes() == before


def test_a_folder_with_nothing_to_show_lands_where_something_can_be_done(page: Page, tmp_path: Path) -> None:
    folder = tmp_path / "sealed"
    folder.mkdir()
    (folder / "sealed.bin").write_bytes(np.random.default_rng(1).bytes(70_000))
    _choose(page, str(folder))
    page.get_by_role("button", name="Open this folder as a game").click()
    expect(page.get_by_role("heading", name="No archive was recognised")).to_be_visible(timeout=60_000)
    expect(page.get_by_role("link", name="See what is inside")).to_have_count(0)
    expect(page.get_by_role("link", name="Describe it in the workshop")).to_be_visible()


def test_a_layout_goes_to_others_and_makes_a_new_archive(page: Page, tmp_path: Path) -> None:
    """Given away from one game, tried on it as somebody else would, used; and a folder becomes an archive."""
    game = unknown_game(tmp_path)
    (game / FOLDER).mkdir()
    (game / FOLDER / "cook-lzss.yaml").write_text(BY_NAME["lzss"].layout)
    open_folder(page, game)
    page.get_by_role("link", name="Layouts", exact=True).click()
    card = page.get_by_role("listitem", name="Members packed by an LZSS of its own")
    expect(card.get_by_text("1 archive: 1 proved")).to_be_visible()
    check_access(page, "layouts")
    card.get_by_role("button", name="Give it away").click()
    page.get_by_label("Who made it").fill("A. Keeper")
    check_access(page, "a layout given away")
    with page.expect_download() as given:
        page.get_by_role("button", name="Test it and save the file").click()
    path = tmp_path / "got.shared.yaml"
    given.value.save_as(path)
    page.get_by_role("button", name="Close", exact=True).click()
    page.get_by_label("A shared layout").set_input_files(path)
    tried = page.get_by_role("region", name="Members packed by an LZSS of its own, as it was tried")
    expect(tried.get_by_text("the same as where it was tested")).to_be_visible(timeout=30_000)
    check_access(page, "a layout taken")
    tried.get_by_role("button", name="Use it").click()
    expect(card.get_by_text("used", exact=True)).to_be_visible(timeout=30_000)

    source = tmp_path / "parts"
    source.mkdir()
    (source / "keel.txt").write_text("tide and slack " * 30)
    # The game is looked through with it, and the list of layouts is another one then.
    wait_for_jobs(page)
    card.get_by_role("button", name="New archive").click()
    page.get_by_label("Files from the folder").fill(str(source))
    page.get_by_label("The new archive").fill(str(tmp_path / "fresh.lz"))
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_text("Made, with 1 member:")).to_be_visible(timeout=30_000)
    expect(page.get_by_role("button", name="Close toast")).to_have_count(0)
    check_access(page, "a new archive")
    made = BY_NAME["lzss"].open({"main": (tmp_path / "fresh.lz").read_bytes()})
    assert made.read(0) == b"tide and slack " * 30
