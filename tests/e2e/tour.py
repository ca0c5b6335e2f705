"""One picture of each main view, made from the demo data: ``python -m tests.e2e.tour FOLDER``."""

from __future__ import annotations

import io
import re
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile
from PIL import Image, ImageDraw
from playwright.sync_api import Locator, Page, expect

from brae.core.assets.texture.files import write_image
from brae.demo import art
from tests.core.families import BY_NAME, shaped
from tests.core.signs.mixture import crate
from tests.e2e.driver import base, chromium, served


def paint_sail(path: Path) -> None:
    """What a person does in an image editor: another colour for the cloth, a star on it."""
    pixels = np.array(Image.open(path).convert("RGBA")).astype(float)
    cloth = (pixels[..., :3].min(axis=2) > 120)[..., None]
    tinted = pixels[..., :3] * (0.62, 0.78, 0.70)
    pixels[..., :3] = np.where(cloth, tinted, pixels[..., :3])
    image = Image.fromarray(pixels.astype(np.uint8))
    draw = ImageDraw.Draw(image)
    draw.regular_polygon((104, 60, 22), 3, fill=(238, 184, 42, 255))
    draw.regular_polygon((104, 60, 22), 3, rotation=60, fill=(238, 184, 42, 255))
    image.save(path)


def fill_white(path: Path) -> None:
    """What a simple paint program does: the clear areas come back white."""
    image = Image.open(path).convert("RGBA")
    ground = Image.new("RGBA", image.size, (255, 255, 255, 255))
    ground.alpha_composite(image)
    ground.convert("RGB").save(path)


def stage(page: Page, name: str) -> Locator:
    """The link to a stage of the work."""
    return page.get_by_role("navigation", name="Stages of the work").get_by_role("link", name=name)


def put_in_work(page: Page, words: str) -> str:
    """Search for one texture, edit it, and return the path of its exchange file."""
    path = edit_one(page, words)
    page.get_by_role("region", name=f"Editing textures/{words.replace(' ', '/')}").wait_for()
    return path


def edit_one(page: Page, words: str) -> str:
    """Search for one item, edit it, and return the path of its exchange file."""
    page.get_by_role("searchbox").fill(words)
    page.get_by_role("status").filter(has_text=re.compile("^1 item$")).wait_for()
    page.get_by_role("button", name="Edit this").click()
    page.wait_for_url("**/edit?item=*")
    title = page.get_by_label("The edit").locator("button[title^='Copy ']").first.get_attribute("title")
    assert title is not None
    return title.removeprefix("Copy ")


DISC = "/p/skerry-post-disc-edition"


def screen_on_the_disc(page: Page) -> None:
    """Change a screen in the pack in the volume on the disc, up to the plan of its build."""
    page.goto(f"{DISC}/find?folder=CARGO.VOL/MENUS.SCR&q=0312")
    page.get_by_role("status").filter(has_text=re.compile("^1 item$")).wait_for()
    page.get_by_role("button", name="Edit this").click()
    page.get_by_role("region", name="Editing 0312").wait_for()
    path = page.locator("button[title^='Copy ']").first.get_attribute("title") or ""
    image = Image.open(path.removeprefix("Copy ")).convert("RGBA")
    draw = ImageDraw.Draw(image)
    draw.rectangle([46, 12, 90, 40], fill=(232, 184, 44, 255))
    draw.text((50, 18), "GALE", (40, 30, 60, 255))
    image.save(path.removeprefix("Copy "))
    page.get_by_text("ready to build").first.wait_for(timeout=15_000)
    stage(page, "Build").click()
    page.get_by_role("button", name="Build", exact=True).wait_for()


def new_hat(page: Page, folder: Path) -> None:
    """Give the postwoman a white band on her hat; in one frame it lies a pixel too low."""
    page.goto(f"{DISC}/find?q=postwom")
    path = Path(edit_one(page, "postwom"))
    told = page.evaluate(
        "address => fetch('/api/projects/skerry-post-disc-edition/sprite/frames?address=' + address)"
        ".then(answer => answer.json())",
        "skerry.bin//CARGO.VOL//POSTWOM.STR",
    )
    sheet = np.array(Image.open(path).convert("RGBA"))
    for number in range(8):
        y, x = number // told["columns"] * told["height"], number % told["columns"] * told["width"]
        cell = sheet[y : y + told["height"], x : x + told["width"]]
        top = int(np.flatnonzero(cell[..., 3].any(axis=1))[0]) + 3 + (number == 5)
        seen = np.flatnonzero(cell[top, :, 3])
        cell[top : top + 2, seen[0] - 1 : seen[-1] + 2] = (238, 238, 230, 255)
    Image.fromarray(sheet).save(path)
    page.get_by_text(re.compile("^Frame 5 jumps")).wait_for(timeout=15_000)


def new_coat(page: Page) -> None:
    """Another colour for two shades of her coat, of which one is somebody's scarf."""
    page.goto(f"{DISC}/find?q=harbour.col")
    edit_one(page, "harbour.col")
    for entry, colour in ((16, "#2a52c8"), (17, "#2040b0")):
        page.get_by_role("button", name=re.compile(f"^Entry {entry}: ")).click()
        page.get_by_label("As #rrggbb").fill(colour)
        page.get_by_role("button", name="Use it").click()
        page.get_by_text(f"entry {entry} is {colour}").wait_for()
    page.get_by_role("region", name="What looks different with it").get_by_role("listitem").nth(1).wait_for()


ISLES = {
    name: f"{name} lies {number * 7 % 12} miles out, ".encode() * (9 + number)
    for number, name in enumerate(["eynhal", "gannet", "holm", "linga", "orfasay", "skerry", "swona", "unst"])
}


def unknown_game(folder: Path) -> Path:
    """A game of which no layout knows anything."""
    game = folder / "Lantern Isles"
    game.mkdir()
    for name, file in (("lzss", "islets.lz"), ("footer", "charts.dat")):
        family = BY_NAME[name]
        (game / file).write_bytes(family.write(shaped(family, ISLES))["main"])
    return game


def unsigned_game(folder: Path) -> Path:
    """Another one, whose archives hold files of open formats as they are."""
    game, rng = folder / "Far Holms", np.random.default_rng
    game.mkdir()
    pictures = [art.stamp(rng(100 + k), 128, k) for k in range(8)]
    pictures += [art.sign(rng(k), 128, 96, name.upper(), art.OXBLOOD) for k, name in enumerate(ISLES)]
    pictures += [art.parcel(rng(60 + k), 128, (196, 160, 104), art.TAR) for k in range(4)]
    files = [write_image(np.ascontiguousarray(picture)) for picture in pictures]
    wave = np.sin(np.arange(9000) / 14) * np.linspace(0.6, 0, 9000)
    for rate in (11025, 22050):
        stream = io.BytesIO()
        soundfile.write(stream, wave, rate, format="WAV", subtype="PCM_16")
        files.append(stream.getvalue())
    (game / "holms.crt").write_bytes(crate(files))
    (game / "winter.crt").write_bytes(crate(files[8:16], seed=6))
    (game / "sealed.bin").write_bytes(rng(1).bytes(70_000))
    return game


def choose_folder(page: Page, folder: Path) -> None:
    """Show a folder in the chooser."""
    page.goto("/")
    page.get_by_role("button", name="Choose a game's folder").click()
    field = page.get_by_label("Folder or file")
    expect(field).not_to_have_value("")
    field.fill(str(folder))
    field.press("Enter")
    page.get_by_role("button", name="holms.crt").wait_for()


def wait_for_jobs(page: Page) -> None:
    """Wait until nothing is being opened or built."""
    running = """fetch('/api/jobs').then(a => a.json()).then(
        jobs => jobs.some(job => ['waiting', 'running'].includes(job.state)))"""
    while page.evaluate(running):
        page.wait_for_timeout(50)


def open_folder(page: Page, folder: Path) -> None:
    """Open a game by its path, as the folder chooser does, and go to its page."""
    page.evaluate(
        "path => fetch('/api/projects', {method: 'POST', headers: {'Content-Type': 'application/json'},"
        " body: JSON.stringify({path})})",
        str(folder),
    )
    name = folder.name.lower().replace(" ", "-")
    wait_for_jobs(page)
    page.goto(f"/p/{name}/open")


def give_and_take(page: Page, folder: Path) -> None:
    """The kist's layout saved as a file for others, and that file tried on the game here."""
    kist = page.get_by_role("listitem", name="Skerry Post kist")
    kist.get_by_role("button", name="Give it away").click()
    page.get_by_label("Who made it").fill("A. Keeper")
    with page.expect_download() as given:
        page.get_by_role("button", name="Test it and save the file").click()
    path = folder / given.value.suggested_filename
    given.value.save_as(path)
    page.get_by_role("button", name="Close", exact=True).click()
    page.get_by_label("A shared layout").set_input_files(path)
    page.get_by_role("button", name="Use it").wait_for(timeout=30_000)


def screenshot_with_the_chart(page: Page, folder: Path) -> Path:
    """A picture of 640 x 480 in which the harbour's chart hangs a little askew."""
    project = page.url.partition("/p/")[2].partition("/")[0]
    address = "data/harbour.kist//textures/harbour/chart.ptx"
    answer = page.request.get(f"/api/projects/{project}/preview", params={"address": address})
    chart = Image.open(io.BytesIO(answer.body())).convert("RGBA").resize((230, 230))
    screen = Image.linear_gradient("L").resize((640, 480)).convert("RGB")
    askew = chart.rotate(9, Image.Resampling.BICUBIC, expand=True)
    screen.paste(askew, (210, 120), askew)
    path = folder / "screenshot.jpg"
    screen.save(path, quality=85)
    return path


def find_by_picture(page: Page, picture: Path) -> None:
    """Choose a picture, and wait for what it shows."""
    page.get_by_label("Picture to look for").set_input_files(picture)
    page.get_by_role("note").get_by_text("appears in it, where it is marked").wait_for(timeout=90_000)
    picture.unlink()


def tour(folder: Path) -> None:
    """Walk through the work and take the pictures."""
    folder.mkdir(parents=True, exist_ok=True)
    with (
        tempfile.TemporaryDirectory() as name,
        served(Path(name) / "home", "demo") as address,
        chromium() as browser,
    ):
        page = browser.new_page(
            viewport={"width": 1280, "height": 800}, color_scheme="light", base_url=base(address)
        )

        def shot(view: str) -> None:
            time.sleep(0.9)
            data = Image.open(io.BytesIO(page.screenshot()))
            data.convert("RGB").quantize(192).save(folder / f"{view}.png", optimize=True)

        page.goto(address)
        wait_for_jobs(page)
        page.get_by_role("button", name="Go to the demo game").wait_for(timeout=60_000)
        page.get_by_role("button", name="Go to the demo game").click()
        page.get_by_role("grid").wait_for()
        page.get_by_role("checkbox", name="Textures").click()
        time.sleep(0.5)
        shot("find")
        find_by_picture(page, screenshot_with_the_chart(page, folder))
        shot("find-picture")
        page.get_by_role("button", name="Show all items").click()
        stage(page, "Open").click()
        page.get_by_text("Proved.").first.wait_for()
        shot("open")
        stage(page, "Find").click()
        sail = put_in_work(page, "boat sail")
        paint_sail(Path(sail))
        page.get_by_text("ready to build").first.wait_for(timeout=15_000)
        shot("edit")
        page.goto("/p/skerry-post/find")
        edit_one(page, "voices/ishbel_1 kind:track")
        page.get_by_text("ishbel_1.wav").wait_for()
        page.get_by_role("group", name="phonemes", exact=True).get_by_role("button").nth(5).focus()
        page.keyboard.press("Shift+ArrowRight")
        page.get_by_role("listitem").filter(has_text="Times moved").wait_for()
        shot("voice")
        page.goto("/p/skerry-post/find")
        edit_one(page, "models/boat kind:mesh")
        page.locator("canvas[data-ready=true]").wait_for()
        shot("model")
        page.goto("/p/skerry-post/find?q=grain")
        page.get_by_role("link", name="Look for a picture in it").click()
        page.get_by_role("button", name="Guess 1").first.wait_for()
        shot("guess")
        stage(page, "Find").click()
        lamp = put_in_work(page, "harbour lighthouse")
        fill_white(Path(lamp))
        page.get_by_text("filled with white").first.wait_for(timeout=15_000)
        stage(page, "Check").click()
        page.get_by_role("heading", name="1 edit would").wait_for()
        shot("check")
        stage(page, "Build").click()
        page.get_by_role("button", name="Build", exact=True).wait_for()
        shot("build")
        page.get_by_role("button", name="Build", exact=True).click()
        page.get_by_role("heading", name="The game has your edits").wait_for(timeout=20_000)
        page.get_by_role("link", name="See it in the game").click()
        page.get_by_role("heading", name="What it loaded").wait_for(timeout=20_000)
        shot("try")
        screen_on_the_disc(page)
        page.goto(f"{DISC}/edit?item=skerry.bin%2F%2FCARGO.VOL%2F%2FMENUS.SCR%2F%2F0312")
        page.get_by_role("button", name=re.compile("^Rectangle 1: ")).focus()
        page.keyboard.press("Shift+ArrowRight")
        page.get_by_text("rectangles: areas.json").first.wait_for()
        shot("screen")
        new_hat(page, folder)
        shot("sprite")
        new_coat(page)
        shot("palette")
        choose_folder(page, unsigned_game(Path(name)))
        page.get_by_role("button", name="Open this folder as a game").click()
        page.get_by_role("grid").get_by_role("row").nth(12).click(timeout=15_000)
        wait_for_jobs(page)
        shot("first-find")
        stage(page, "Open").click()
        page.get_by_text("begins with").first.wait_for()
        shot("first-open")
        open_folder(page, unknown_game(Path(name)))
        file = page.get_by_role("listitem", name="islets.lz")
        file.get_by_role("button", name=re.compile("Find its structure|Look again")).click()
        page.get_by_label("The layout").wait_for(timeout=60_000)
        shot("structure")
        page.get_by_role("link", name="Go on in the workshop").click()
        page.get_by_role("group", name="Bytes").wait_for()
        page.get_by_text("Proved.").wait_for(timeout=15_000)
        page.get_by_role("group", name="Bytes").locator("span[title]").nth(12).click()
        shot("workshop")
        page.goto("/p/skerry-post/find?q=/boat|chart|stamp_[0-3]/&where=kind:texture")
        page.get_by_role("grid").get_by_role("row").first.click()
        page.keyboard.press("Control+a")
        page.get_by_role("button", name="Colours", exact=True).click()
        page.get_by_role("button", name="Take this step away").click()
        for step in ("Some hues become another", "Gradient by lightness"):
            page.get_by_role("button", name="One step more").click()
            page.get_by_role("menuitem", name=step).click()
        page.get_by_text("a packed map").wait_for()
        page.get_by_label("Name of these steps").fill("autumn")
        shot("colours")
        page.goto("/p/skerry-post/try")
        page.get_by_role("heading", name="What it loaded").wait_for(timeout=20_000)
        page.get_by_role("button", name="Dark theme").click()
        page.goto("/p/skerry-post/layouts")
        give_and_take(page, Path(name))
        shot("layouts")


if __name__ == "__main__":
    tour(Path(sys.argv[1]))
