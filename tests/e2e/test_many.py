"""A hundred thousand items in the page: what is shown after scrolling, searching, ordering and choosing."""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Browser, Page, expect

from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_new
from tests.e2e.driver import base, chromium, served
from tests.e2e.tour import open_folder, stage

pytestmark = [pytest.mark.browser]
MANY = 100_000


@pytest.fixture(scope="module")
def many(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A game of a hundred thousand small textures, a third of them 16 wide."""
    game = tmp_path_factory.mktemp("many") / "tiles"
    game.mkdir()
    files = [
        encode_new(np.full((8, side, 4), (200, 40 * number, 30, 255), np.uint8), formats.get("bc1"), 1)
        for number, side in enumerate((8, 8, 16))
    ]
    with zipfile.ZipFile(game / "many.zip", "w") as archive:
        for number in range(MANY):
            archive.writestr(f"tiles/{number % 10}/tile_{number:06d}.dds", files[number % 3])
    return game


@pytest.fixture
def page(many: Path, tmp_path: Path) -> Iterator[Page]:
    with chromium() as browser, served(tmp_path / "home", "serve") as address:
        page = _page(browser, address)
        page.goto(address)
        open_folder(page, many)
        stage(page, "Find").click()
        yield page
        page.context.close()


def _page(browser: Browser, address: str) -> Page:
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=base(address))
    return context.new_page()


def _counted(page: Page, number: int) -> None:
    expect(page.get_by_role("status").filter(has_text=re.compile(f"^{number:,} items$"))).to_be_visible()


def test_a_hundred_thousand_items_are_scrolled_searched_ordered_and_chosen(page: Page) -> None:
    _counted(page, MANY)
    table = page.get_by_role("grid")
    expect(table).to_have_attribute("aria-rowcount", str(MANY))
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url) if "/preview?" in request.url else None)
    # To the end in one go and in a hundred steps: the last is shown, and what was passed by was not fetched.
    table.get_by_role("row").first.click()
    page.keyboard.press("End")
    expect(page.get_by_label("Chosen item").get_by_role("heading", name="tiles/9/tile_099999.dds")).to_be_visible()
    expect(table.get_by_role("row", name="tiles/9/tile_099999.dds")).to_be_visible()
    for _ in range(100):
        table.evaluate("table => table.scrollBy(0, -40000)")
        page.evaluate("new Promise(done => requestAnimationFrame(done))")
    page.keyboard.press("Home")
    expect(table.get_by_role("row", name="tiles/0/tile_000000.dds")).to_be_visible()
    page.wait_for_load_state("networkidle")
    assert len(asked) < 3000, "pictures that were scrolled past are left out"
    # Letters lead to a name whose page was never loaded.
    page.keyboard.type("tile_067890")
    expect(page.get_by_role("heading", name="tiles/0/tile_067890.dds")).to_be_visible()
    expect(table.get_by_role("row", name="tiles/0/tile_067890.dds")).to_have_attribute("aria-selected", "true")
    # From there to the end with Shift, and everything.
    page.keyboard.press("Shift+ArrowRight")
    expect(page.get_by_role("button", name="Edit these 2")).to_be_visible()
    page.keyboard.press("Control+a")
    expect(page.get_by_role("button", name="Edit these 100,000")).to_be_visible()
    page.get_by_role("searchbox").fill("tiles/3/ width>=16")
    _counted(page, len([n for n in range(MANY) if n % 10 == 3 and n % 3 == 2]))
    expect(page.get_by_role("button", name="Edit these")).to_have_count(0)
    page.get_by_role("radio", name="List").click()
    page.get_by_role("button", name="Order by name").click()
    expect(table.get_by_role("row").first).to_contain_text("tile_000023.dds")
    page.get_by_role("button", name="Order by name").click()
    expect(table.get_by_role("row").first).to_contain_text("tile_099983.dds")
    page.get_by_role("searchbox").fill("tile_05432?")
    _counted(page, 10)
