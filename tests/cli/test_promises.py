"""What the command line promises: faults named, odd names in JSON, cue sheets, Brae's own folder, quick starts."""

from __future__ import annotations

import io
import json
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

import pytest
from PIL import Image

from brae.cli.quick import open_quickly
from brae.core.layouts.library import FOLDER
from tests.cli.test_cli import brae
from tests.core.families import BY_NAME, members_for


def _run(*words: object) -> subprocess.CompletedProcess[bytes]:
    return subprocess.run([sys.executable, "-m", "brae.cli", *map(str, words)], capture_output=True)


def test_a_cue_sheet_leads_to_its_image(disc_game: Path, tmp_path: Path) -> None:
    by_image = json.loads(brae("inspect", disc_game / "skerry.bin", "--json"))
    assert json.loads(brae("inspect", disc_game / "skerry.cue", "--json")) == by_image
    brae("unpack", f"{disc_game / 'skerry.cue'}//CARGO.VOL", "-o", tmp_path / "out")
    assert len([path for path in (tmp_path / "out").rglob("*") if path.is_file()]) == 94
    (tmp_path / "lost.cue").write_text('FILE "nowhere.bin" BINARY\n')
    assert "names no image" in brae("inspect", tmp_path / "lost.cue", fails=True)


def test_a_faulty_layout_beside_the_game_is_named(tmp_path: Path) -> None:
    (tmp_path / FOLDER).mkdir()
    (tmp_path / FOLDER / "mine.yaml").write_text("layout: mine\ntitle: Mine\nkind: archive\nprats: []\n")
    with zipfile.ZipFile(tmp_path / "a.zip", "w") as archive:
        archive.writestr("a", "b")
    done = _run("inspect", tmp_path / "a.zip", "--json")
    assert done.returncode == 0
    (fault,) = json.loads(done.stdout)["layout_faults"]
    assert fault["address"] == "mine.yaml"
    assert f"mine.yaml, line {fault['line']}: {fault['message']}" in done.stderr.decode()
    named = _run("inspect", tmp_path / "a.zip", "--layout", tmp_path / FOLDER / "mine.yaml")
    assert named.returncode == 1
    assert fault["message"] in named.stderr.decode()


def test_names_that_are_no_text_become_json(tmp_path: Path) -> None:
    with tarfile.open(tmp_path / "a.tar", "w", format=tarfile.GNU_FORMAT) as archive:
        for name in ("m\udcff\udc80y", "plain"):
            archive.addfile(tarfile.TarInfo(name), io.BytesIO())
    done = _run("inspect", tmp_path / "a.tar", "--json")
    assert (done.returncode, done.stderr) == (0, b"")
    assert json.loads(done.stdout.decode("utf-8"))["names"] == ["m\\udcff\\udc80y", "plain"]
    assert _run("inspect", tmp_path / "a.tar").returncode == 0
    assert _run("unpack", tmp_path / "a.tar", "-o", tmp_path / "out").returncode == 0
    missing = _run("inspect", f"{tmp_path / 'a.tar'}//no\udcff", "--json")
    assert missing.returncode == 1
    assert b"Traceback" not in missing.stderr
    json.loads(missing.stdout.decode("utf-8"))


@pytest.mark.parametrize("word", ["inspect", "unpack", "repack", "decode"])
def test_commands_know_the_layouts_of_a_home(word: str, tmp_path: Path) -> None:
    family = BY_NAME["tree"]
    layouts = tmp_path / "home" / "layouts"
    layouts.mkdir(parents=True)
    (layouts / "mine.yaml").write_text(family.layout)
    files = family.write(members_for(family))
    archive = tmp_path / "game.arc"
    archive.write_bytes(files["main"])
    out, home = tmp_path / "out", ("--home", tmp_path / "home")
    if word == "inspect":
        assert json.loads(brae("inspect", archive, "--json", *home))["layout"] == family.described.layout
        assert json.loads(brae("inspect", archive, "--json"))["layout"] is None
    elif word == "unpack":
        brae("unpack", archive, "-o", out, *home)
        assert any(out.rglob("*"))
        brae("unpack", archive, "-o", out, fails=True)
    elif word == "repack":
        brae("unpack", archive, "-o", out, *home)
        brae("repack", archive, "--from", out, "-o", tmp_path / "again.arc", *home)
        assert (tmp_path / "again.arc").read_bytes() == files["main"]
    else:
        said = brae("decode", f"{archive}//none", "-o", tmp_path / "x.png", *home, fails=True)
        assert "no member" in said
    assert not (tmp_path / "home" / "brae.db").exists(), "what only reads makes nothing"


def test_what_layouts_are_told_by_is_remembered_and_never_wrong(tmp_path: Path) -> None:
    """The quick way gives the same words, and is left as soon as a layout fits or any file of them has changed."""
    home = tmp_path / "home"
    path = tmp_path / "a.zip"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("a", "b")
    assert open_quickly(str(path), None, home) is None, "nothing is remembered yet"
    first = brae("inspect", path, "--json", "--home", home)
    assert open_quickly(str(path), None, home) is None, "a folder that is not there is not made"
    home.mkdir()
    assert brae("inspect", path, "--json", "--home", home) == first
    assert open_quickly(str(path), None, home) is not None
    assert brae("inspect", path, "--json", "--home", home) == first, "the quick way says the same"
    assert open_quickly(str(path), "zip", home) is None
    (tmp_path / FOLDER).mkdir()
    mine = tmp_path / FOLDER / "mine.yaml"
    mine.write_text(BY_NAME["tree"].layout)
    assert open_quickly(str(path), None, home) is None, "a layout that is not remembered"
    brae("inspect", path, "--home", home)
    assert open_quickly(str(path), None, home) is not None
    mine.write_text(
        "layout: mine\ntitle: Mine\nkind: archive\nmatch: {names: ['*.zip']}\nparts: [{bytes: x, size: 4}]\n"
    )
    assert open_quickly(str(path), None, home) is None, "it has changed"
    (home / "layout-signs.json").write_bytes(b"{half")
    assert open_quickly(str(path), None, home) is None


def test_help_imports_no_numbers_and_no_models() -> None:
    """Neither numpy nor the models of layouts: the help is there at once."""
    code = (
        "import sys; sys.argv = ['brae', '--help']\n"
        "from brae.cli.main import app\n"
        "try: app()\n"
        "except SystemExit: pass\n"
        "print([one for one in ('numpy', 'pydantic', 'sqlalchemy', 'fastapi', 'numba') if one in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"


def test_encoding_like_an_original_tells_what_differs(made_demo: Path, tmp_path: Path) -> None:
    """White where it was clear is told; what the game would refuse is not written, and has its own exit code."""
    brae("unpack", made_demo / "data/harbour.kist", "-o", tmp_path / "all")
    original = tmp_path / "all/textures/boat/sail.ptx"
    brae("decode", original, "-o", tmp_path / "sail.png")
    image = Image.open(tmp_path / "sail.png").convert("RGBA")
    white = Image.new("RGBA", image.size, "white")
    white.alpha_composite(image)
    white.convert("RGB").save(tmp_path / "white.png")
    done = _run("encode", tmp_path / "white.png", "-o", tmp_path / "a.ptx", "--like", original)
    assert done.returncode == 0
    assert b"filled with white" in done.stderr
    found = json.loads(
        _run("encode", tmp_path / "white.png", "-o", tmp_path / "a.ptx", "--like", original, "--json").stdout
    )
    assert [one["id"] for one in found["encoded"][0]["findings"]] == ["alpha-filled"]
    image.resize((100, 90)).save(tmp_path / "small.png")
    wrong = ("encode", tmp_path / "small.png", "-o", tmp_path / "b.ptx", "--like", original)
    done = _run(*wrong)
    assert (done.returncode, (tmp_path / "b.ptx").exists()) == (3, False)
    assert b"100 x 90 pixels instead of 256 x 256" in done.stderr
    assert json.loads(_run(*wrong, "--json").stdout)["error"]["code"] == "refused"
    assert _run(*wrong, "--anyway").returncode == 0
    assert (tmp_path / "b.ptx").is_file()
    (tmp_path / "pictures").mkdir()
    (tmp_path / "originals").mkdir()
    for name, picture in (("sail", "sail.png"), ("other", "small.png")):
        (tmp_path / f"pictures/{name}.png").write_bytes((tmp_path / picture).read_bytes())
        (tmp_path / f"originals/{name}.ptx").write_bytes(original.read_bytes())
    done = _run(
        "encode", tmp_path / "pictures", "-o", tmp_path / "made", "--like", tmp_path / "originals", "--json"
    )
    assert done.returncode == 3
    told = json.loads(done.stdout)
    assert [Path(one["file"]).name for one in told["encoded"]] == ["sail.ptx"]
    assert [one["code"] for one in told["failed"]] == ["refused"]
