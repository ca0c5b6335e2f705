"""The command line's words, as a person or a program types them."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from typer.testing import CliRunner

from brae.cli.main import app
from brae.core.layouts.library import FOLDER
from brae.store import Home
from brae.work import Workspace
from brae.work.opening import open_game
from tests.core.families import BY_NAME, members_for
from tests.work.test_flow import SAIL, come_back, digests, paint


def brae(*words: object, fails: bool = False) -> str:
    """Run a command in this process, which has all modules at hand; its output, without progress bars.

    A process of its own is what ``test_promises`` runs.
    """
    done = CliRunner().invoke(app, [str(word) for word in words], prog_name="brae")
    if done.exception is not None and not isinstance(done.exception, SystemExit):
        raise done.exception
    assert (done.exit_code != 0) == fails, done.stderr
    if fails:
        assert done.stderr.startswith(("brae: ", "Usage")), done.stderr
        assert "Traceback" not in done.stderr
        return done.stderr
    assert done.stderr == ""
    return done.stdout


def test_demo_makes_the_same_files_again(made_demo: Path, tmp_path: Path) -> None:
    brae("demo", "--into", tmp_path, "--no-start")
    assert digests(tmp_path / "skerry-post-desktop") == digests(made_demo)


def test_inspect(made_demo: Path, tmp_path: Path) -> None:
    found = json.loads(brae("inspect", made_demo / "data/harbour.kist", "--json"))
    assert (found["kind"], found["layout"], found["members"]) == ("archive", "skerry-kist", 323)
    assert found["proof"]["exact"] is True
    assert "323 members" in brae("inspect", made_demo / "data/harbour.kist")
    assert json.loads(brae("inspect", made_demo / "skerry.cfg", "--json"))["kind"] == "text"
    broken = tmp_path / "harbour.kist"
    data = bytearray((made_demo / "data/harbour.kist").read_bytes())
    data[80] ^= 1
    broken.write_bytes(data)
    (tmp_path / "harbour.hold").write_bytes((made_demo / "data/harbour.hold").read_bytes())
    proof = json.loads(brae("inspect", broken, "--json"))["proof"]
    assert (proof["exact"], proof["field"], proof["offset"]) == (False, "directory_check", 24)
    assert "no file" in brae("inspect", tmp_path / "nothing", fails=True)
    named = json.loads(brae("inspect", broken, "--layout", "skerry-kist", "--json"))
    assert named["layout"] == "skerry-kist"
    assert "no layout 'x'" in brae("inspect", broken, "--layout", "x", fails=True)


def test_unpack_change_repack(made_demo: Path, tmp_path: Path) -> None:
    source, out = made_demo / "data/harbour.kist", tmp_path / "out"
    brae("unpack", source, "-o", out)
    assert sum(path.is_file() for path in out.rglob("*")) == 323
    same = tmp_path / "same/harbour.kist"
    brae("repack", source, "--from", out, "-o", same)
    assert digests(same.parent).items() <= digests(made_demo / "data").items()
    (out / "texts/letters/07.txt").write_bytes(b"a longer letter, " * 90)
    sail = out / "textures/boat/sail.ptx"
    picture = tmp_path / "sail.png"
    brae("decode", sail, "-o", picture)
    pixels = np.array(Image.open(picture))
    pixels[90:120, 90:120, :3] = 0
    Image.fromarray(pixels).save(out / "textures/boat/sail.ptx.png")
    changed = json.loads(brae("repack", source, "--from", out, "-o", tmp_path / "new/harbour.kist", "--json"))
    assert changed["changed"] == ["textures/boat/sail.ptx", "texts/letters/07.txt"] or set(changed["changed"]) == {
        "textures/boat/sail.ptx", "texts/letters/07.txt",
    }  # fmt: skip
    again = tmp_path / "again"
    brae("unpack", tmp_path / "new/harbour.kist", "-o", again)
    assert (again / "texts/letters/07.txt").read_bytes() == b"a longer letter, " * 90
    untouched = {path: sha for path, sha in digests(again).items() if path not in changed["changed"]}
    before = digests(out)
    assert all(before[path] == sha for path, sha in untouched.items())
    assert len(untouched) == 321
    assert "never overwritten" in brae("repack", source, "--from", out, "-o", source, fails=True)
    (out / "stranger").write_bytes(b"?")
    assert "no member" in brae("repack", source, "--from", out, "-o", tmp_path / "x.kist", fails=True)
    assert not (tmp_path / "x.kist").exists()


def test_decode_and_encode(made_demo: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    brae("unpack", made_demo / "data/harbour.kist", "-o", out)
    sail, picture = out / "textures/boat/sail.ptx", tmp_path / "sail.png"
    brae("decode", sail, "-o", picture)
    again = tmp_path / "sail.ptx"
    assert "5463 of 5463 blocks kept" in brae("encode", picture, "-o", again, "--like", sail)
    assert again.read_bytes() == sail.read_bytes()
    for name, mips, size in (
        ("bc1", "all", 128 + 43704),
        ("bc3", "none", 128 + 65536),
        ("rgba8", "2", 128 + 4 * (65536 + 16384)),
    ):
        dds = tmp_path / f"{name}.dds"
        brae("encode", picture, "-o", dds, "--format", name, "--mips", mips)
        assert dds.stat().st_size == size
        assert Image.open(dds).size == (256, 256)
    brae("decode", tmp_path / "rgba8.dds", "-o", tmp_path / "back.png")
    assert np.array_equal(np.asarray(Image.open(tmp_path / "back.png")), np.asarray(Image.open(picture)))
    brae("decode", sail, "-o", tmp_path / "small.png", "--level", "2")
    assert Image.open(tmp_path / "small.png").size == (64, 64)
    for words in (
        ("encode", picture, "-o", tmp_path / "x.dds"),
        ("encode", picture, "-o", tmp_path / "x.dds", "--format", "bc99"),
        ("encode", picture, "-o", tmp_path / "x.dds", "--format", "bc1", "--mips", "some"),
        ("encode", picture, "-o", tmp_path / "x.dds", "--format", "bc1", "--mips", "10"),
        ("encode", sail, "-o", tmp_path / "x.dds", "--format", "bc1"),
        ("decode", picture.with_name("none"), "-o", tmp_path / "x.png"),
        ("decode", out / "texts/letters/00.txt", "-o", tmp_path / "x.png"),
        ("decode", sail, "-o", tmp_path / "x.xyz"),
    ):
        brae(*words, fails=True)
    assert not list(tmp_path.glob("x.*"))


def test_encode_by_choice_and_a_whole_folder(made_demo: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    brae("unpack", made_demo / "data/harbour.kist", "-o", out)
    pictures = tmp_path / "pictures"
    for name in ("boat/sail", "harbour/dusk", "rock/height"):
        (pictures / name).parent.mkdir(parents=True, exist_ok=True)
        brae("decode", out / f"textures/{name}.ptx", "-o", pictures / f"{name}.png")
    made = tmp_path / "made"
    assert "3 of 3 encoded" in brae("encode", pictures, "-o", made, "--like", out / "textures")
    for name in ("boat/sail", "harbour/dusk", "rock/height"):
        assert (made / f"{name}.ptx").read_bytes() == (out / f"textures/{name}.ptx").read_bytes()
    words = ("--format", "bc7", "--effort", "fast", "--filter", "kaiser", "--packed", "zstd")
    brae("encode", pictures / "boat/sail.png", "-o", tmp_path / "sail.ktx2", *words)
    assert "pixel format BC7, mip levels 9" in brae("inspect", tmp_path / "sail.ktx2")
    light = out / "textures/harbour/noon.dds"
    brae("decode", light, "-o", tmp_path / "noon.exr")
    assert "kept from the original" in brae(
        "encode", tmp_path / "noon.exr", "-o", tmp_path / "noon.dds", "--like", light
    )
    assert (tmp_path / "noon.dds").read_bytes() == light.read_bytes()
    (pictures / "broken.png").write_bytes(b"no picture")
    brae("encode", pictures, "-o", tmp_path / "more", "--format", "bc1", fails=True)
    assert (tmp_path / "more/boat/sail.dds").is_file(), "one that fails does not keep the others back"
    for option, value in (("--effort", "none"), ("--filter", "sharp"), ("--content", "x"), ("--packed", "rar")):
        brae(
            "encode",
            pictures / "boat/sail.png",
            "-o",
            tmp_path / "x.dds",
            "--format",
            "bc1",
            option,
            value,
            fails=True,
        )


def test_guess(made_demo: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    brae("unpack", made_demo / "data/harbour.kist", "-o", out)
    raw = tmp_path / "pixels.bin"
    raw.write_bytes((out / "textures/harbour/dusk.ptx").read_bytes()[20:])
    said = brae("guess", raw, "-o", tmp_path / "seen.png")
    assert "512 x 256, BC7, 10 levels" in said.splitlines()[0]
    assert Image.open(tmp_path / "seen.png").size == (512, 256)
    best = json.loads(brae("guess", raw, "--json"))["guesses"][0]
    assert (best["format"], best["width"], best["height"], best["levels"]) == ("bc7", 512, 256, 10)
    raw.write_bytes(b"abc")
    brae("guess", raw, fails=True)


def test_split_and_compose(made_demo: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    brae("unpack", made_demo / "data/harbour.kist", "-o", out)
    wear = tmp_path / "wear.png"
    brae("decode", out / "textures/boat/hull_wear.ptx", "-o", wear)
    brae("split", wear, "-o", tmp_path / "parts")
    parts = {letter: tmp_path / f"parts/wear_{letter}.png" for letter in "rgb"}
    brae("compose", "-o", tmp_path / "again.png", *(word for one in parts for word in (f"--{one}", parts[one])))
    packed = np.asarray(Image.open(wear).convert("RGB"))
    assert np.array_equal(np.asarray(Image.open(tmp_path / "again.png")), packed)
    brae("compose", "-o", tmp_path / "smooth.png", "--base", wear, "--invert", "r")
    smooth = np.asarray(Image.open(tmp_path / "smooth.png").convert("RGB"))
    assert np.array_equal(smooth[..., 0], 255 - packed[..., 0])
    assert np.array_equal(smooth[..., 1:], packed[..., 1:])
    brae("compose", "-o", tmp_path / "x.png", fails=True)


def test_texels() -> None:
    """A wall of 128 units at a scale of 0.25 wants 512 (common practice, no source)."""
    assert brae("texels", "128", "--per-unit", "4").strip() == "512 texels"
    assert brae("texels", "128", "--side", "512").strip() == "4 texels a unit"
    brae("texels", "128", fails=True)


def test_layouts_of_ones_own(made_demo: Path, tmp_path: Path) -> None:
    """A layout beside the archive, found by itself; and one that is named."""
    own = tmp_path / "brae-layouts"
    own.mkdir()
    (own / "raw.yaml").write_text(
        "layout: raw\ntitle: Raw\nkind: archive\nparts:\n"
        '- {field: magic, type: bytes, length: 4, value: "RAW1"}\n'
        "- {field: count, type: u32, is: count(list)}\n"
        "- {table: list, count: count, record: [\n"
        "    {field: at, type: u32, role: offset}, {field: size, type: u32, role: stored-size}]}\n"
        "- {members: data, of: list}\n"
    )
    archive = tmp_path / "deep" / "file.raw"
    archive.parent.mkdir()
    archive.write_bytes(b"RAW1\x02\0\0\0" + bytes([24, 0, 0, 0, 3, 0, 0, 0, 27, 0, 0, 0, 2, 0, 0, 0]) + b"abcde")
    found = json.loads(brae("inspect", archive, "--json"))
    assert (found["layout"], found["members"], found["proof"]["exact"]) == ("raw", 2, True)
    brae("unpack", archive, "-o", tmp_path / "out", "--layout", own / "raw.yaml")
    assert (tmp_path / "out" / "0001").read_bytes() == b"de"


def test_build_and_restore(game: Path, tmp_path: Path) -> None:
    home = tmp_path / "home"
    workspace = Workspace(Home(home))
    open_game(workspace, game)
    come_back(workspace, SAIL, paint(workspace, SAIL))
    workspace.close()
    before = digests(game)
    built = json.loads(brae("build", "skerry", "--home", home, "--json"))
    assert [file["way"] for file in built["files"]] == ["patch", "patch"]
    assert digests(game) != before
    assert "as the edits want" in brae("build", "skerry", "--home", home)
    assert "as it was" in brae("restore", "skerry", "--home", home)
    assert digests(game) == before
    assert "Nothing was changed" in brae("restore", "skerry", "--home", home)
    assert "no project 'x'" in brae("build", "x", "--home", home, fails=True)


@pytest.mark.parametrize(
    "word",
    [
        "demo",
        "serve",
        "inspect",
        "unpack",
        "repack",
        "decode",
        "encode",
        "guess",
        "split",
        "compose",
        "build",
        "restore",
    ],
)
def test_every_word_explains_itself(word: str) -> None:
    assert "Usage" in brae(word, "--help")


def test_a_taken_port_is_said(tmp_path: Path) -> None:
    import socket

    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        assert f"port {port} is taken" in brae(
            "serve", "--port", port, "--no-browser", "--home", tmp_path, fails=True
        )


@pytest.mark.parametrize("name", ["tree", "hidden", "stream", "pair", "footer"])
def test_a_layout_of_ones_own_beside_the_game(name: str, tmp_path: Path) -> None:
    """What docs/layouts.md promises a person who writes a layout: inspect, unpack, change, repack."""
    family = BY_NAME[name]
    members = members_for(family)
    (tmp_path / FOLDER).mkdir()
    (tmp_path / FOLDER / "mine.yaml").write_text(family.layout)
    files = family.write(members)
    for key, data in files.items():
        (tmp_path / ("game.arc" if key == "main" else "game.arc.bin")).write_bytes(data)
    archive = tmp_path / "game.arc"
    given = ("--layout", family.described.layout) if name == "pair" else ()
    found = json.loads(brae("inspect", archive, "--json", *given))
    assert (found["layout"], found["members"]) == (family.described.layout, len(members))
    assert found["proof"]["exact"] is True
    out = tmp_path / "out"
    brae("unpack", archive, "-o", out, *given)
    written = sorted(path for path in out.rglob("*") if path.is_file())
    assert sorted(path.read_bytes() for path in written) == sorted(data for _, data in members)
    written[2].write_bytes(b"another harbour" * 9)
    again = tmp_path / "new" / "game.arc"
    report = json.loads(brae("repack", archive, "--from", out, "-o", again, "--json", *given))
    assert len(report["changed"]) == 1
    (tmp_path / "new" / FOLDER).mkdir()
    (tmp_path / "new" / FOLDER / "mine.yaml").write_text(family.layout)
    assert json.loads(brae("inspect", again, "--json", *given))["proof"]["exact"] is True


def test_members_are_added_and_removed_only_on_demand(tmp_path: Path) -> None:
    family = BY_NAME["footer"]
    members = members_for(family)
    archive, out = tmp_path / "game.arc", tmp_path / "out"
    archive.write_bytes(family.write(members)["main"])
    layout = tmp_path / "mine.yaml"
    layout.write_text(family.layout)
    brae("unpack", archive, "-o", out, "--layout", layout)
    (out / "new.x").write_bytes(b"a new member")
    (out / members[0][0]).unlink()
    words = ("repack", archive, "--from", out, "-o", tmp_path / "again.arc", "--layout", layout)
    assert "--add" in brae(*words, fails=True)
    report = json.loads(brae(*words, "--add", "--remove", "--json"))
    assert (report["added"], report["removed"], report["changed"]) == (["new.x"], [members[0][0]], [])
    expected = family.write([*members[1:], ("new.x", b"a new member")])["main"]
    assert (tmp_path / "again.arc").read_bytes() == expected


def test_propose_writes_a_layout_that_the_other_words_take(tmp_path: Path) -> None:
    family = BY_NAME["lzss"]
    archive, layout = tmp_path / "game.arc", tmp_path / "found.yaml"
    archive.write_bytes(family.write(members_for(family))["main"])
    assert "no layout fits" in brae("inspect", archive)
    assert "proof: exact" in brae("propose", archive, "-o", layout)
    found = json.loads(brae("inspect", archive, "--layout", layout, "--json"))
    assert (found["layout"], found["members"], found["proof"]["exact"]) == ("found", 9, True)
    (tmp_path / "noise").write_bytes(b"\0" * 100)
    assert "No structure was found" in brae("propose", tmp_path / "noise", fails=True)


def _files_in(folder: Path) -> dict[str, bytes]:
    return {path.relative_to(folder).as_posix(): path.read_bytes() for path in folder.rglob("*") if path.is_file()}


def test_a_new_archive_from_a_folder(made_demo: Path, tmp_path: Path) -> None:
    """By a layout alone, and like another archive: both hold the folder's files, and their proofs are exact."""
    kist, out = made_demo / "data/harbour.kist", tmp_path / "out"
    brae("unpack", kist, "-o", out)
    (out / "texts").mkdir(exist_ok=True)
    (out / "texts/new.txt").write_text("A letter more.")
    wanted = _files_in(out)
    for name, more in (("plain", ["--layout", "skerry-kist"]), ("like", ["--like", kist])):
        made = tmp_path / name / "isles.kist"
        said = json.loads(brae("make", out, "-o", made, *more, "--json"))
        assert set(said["files"]) == {"main", "hold"}
        told = json.loads(brae("inspect", made, "--json"))
        assert (told["proof"]["exact"], told["members"]) == (True, len(wanted))
        again = tmp_path / f"{name} again"
        brae("unpack", made, "-o", again)
        assert {
            path.relative_to(again).as_posix(): path.read_bytes() for path in again.rglob("*") if path.is_file()
        } == wanted
    assert "no folder" in brae(
        "make", tmp_path / "gone", "-o", tmp_path / "x", "--layout", "skerry-kist", fails=True
    )
    assert "--layout" in brae("make", out, "-o", tmp_path / "x", fails=True)
    # Neither the archive nor its data file takes the place of what is there.
    (tmp_path / "taken.hold").write_bytes(b"somebody's")
    for more in (["--layout", "skerry-kist"], ["--like", kist]):
        assert "file of this name" in brae("make", out, "-o", tmp_path / "plain/isles.kist", *more, fails=True)
        assert "taken.hold" in brae("make", out, "-o", tmp_path / "taken.kist", *more, fails=True)
    assert (tmp_path / "taken.hold").read_bytes() == b"somebody's"
    assert not (tmp_path / "taken.kist").exists()


@pytest.mark.parametrize(("name", "dxgi", "vulkan"), [("bc7", 99, 146), ("bc1", 72, 134), ("rgba8", 29, 43)])
def test_a_texture_says_that_it_is_srgb(tmp_path: Path, name: str, dxgi: int, vulkan: int) -> None:
    """The numbers are those of Microsoft's DXGI_FORMAT and of Vulkan's VkFormat (both from memory)."""
    picture = tmp_path / "tile.png"
    Image.new("RGBA", (8, 8), (200, 40, 30, 255)).save(picture)
    brae("encode", picture, "-o", tmp_path / "tile.dds", "--format", name, "--srgb")
    data = (tmp_path / "tile.dds").read_bytes()
    assert (data[84:88], int.from_bytes(data[128:132], "little")) == (b"DX10", dxgi)
    brae("encode", picture, "-o", tmp_path / "tile.ktx2", "--format", name, "--srgb")
    found = int.from_bytes((tmp_path / "tile.ktx2").read_bytes()[12:16], "little")
    if name == "bc1":
        assert found in (132, 134)  # without and with its one bit of alpha
    else:
        assert found == vulkan
    brae("encode", picture, "-o", tmp_path / "plain.dds", "--format", name, "--dx10")
    assert int.from_bytes((tmp_path / "plain.dds").read_bytes()[128:132], "little") == dxgi - 1


def test_a_layout_is_given_away_and_taken_by_somebody_else(tmp_path: Path) -> None:
    family = BY_NAME["inline"]
    (tmp_path / "mine.yaml").write_text(family.layout)
    (tmp_path / "a.x").write_bytes(family.write(members_for(family))["main"])
    given, home = tmp_path / "mine.shared.yaml", tmp_path / "home"
    brae(
        "share", tmp_path / "mine.yaml", tmp_path / "a.x", "-o", given, "--author", "A. Keeper", "--licence", "MIT"
    )
    assert "already" in brae("share", tmp_path / "mine.yaml", tmp_path / "a.x", "-o", given, fails=True)
    told = json.loads(brae("adopt", given, tmp_path / "a.x", "--home", home, "--json"))
    assert (told["layout"], told["version"], told["author"]) == ("cook-inline", "1", "A. Keeper")
    assert told["trials"][0]["known"]
    assert "9 members" in brae("inspect", tmp_path / "a.x", "--home", home)
    (tmp_path / "torn.x").write_bytes((tmp_path / "a.x").read_bytes()[:90])
    other = tmp_path / "other"
    assert "not proved on 1 of 1" in brae("adopt", given, tmp_path / "torn.x", "--home", other, fails=True)
    assert not (other / "layouts" / "cook-inline.yaml").exists(), "what does not fit is not used"
    brae("adopt", given, tmp_path / "torn.x", "--home", other, "--anyway")
    assert (other / "layouts" / "cook-inline.yaml").read_text() == family.layout
