"""Textures whose larger levels lie in one file that many share, at a place that a number of the header says.

Pictures: scikit-image's; the files are cut here with numpy's and struct's help alone, and read again by Pillow.
"""

from __future__ import annotations

import io
import struct
import zipfile
from collections.abc import Mapping
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from brae.core.assets.folders import edits_in, unpack
from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_new
from brae.core.assets.texture.files import write_image
from brae.core.containers.nesting import open_path
from brae.core.errors import FormatError, LayoutError
from brae.core.layouts.library import FOLDER, Library
from brae.core.layouts.load import parse
from brae.core.sources.stretches import Stretches
from brae.work import Workspace, builds, planning
from brae.work.edits import go_to, put_in_work, take_file
from brae.work.halves import halves_of, join
from brae.work.items import asset_at, look_at
from brae.work.opening import open_game
from tests.core.find.photos import pieces

NAMES = ("hull", "sail", "mast", "rope", "deck")
SIDE, LEVELS, AWAY, BLOCK = 128, 8, 3, 512
#: a DDS header (Microsoft, DDS_HEADER) with its magic; the bytes of BC1 levels of 128, 64 and 32 pixels
HEAD, SIZES = 128, (8192, 2048, 512)
#: of eleven words that are reserved, the one in which the file's writer says where
WORD = 44
STREAM = "cache/levels.bin"


def _pictures() -> dict[str, np.ndarray]:
    return dict(zip(NAMES, (one[:SIDE, :SIDE] for one in list(pieces().values())[::3]), strict=False))


@pytest.fixture(scope="module")
def wholes() -> dict[str, bytes]:
    return {name: encode_new(one, formats.get("bc1"), LEVELS) for name, one in _pictures().items()}


def _cut(wholes: Mapping[str, bytes]) -> tuple[dict[str, bytes], bytes, dict[str, int]]:
    """The small files, the shared one, and where in that each begins: in blocks of 512, with noise between them."""
    noise = np.random.default_rng(5)
    stream, stubs, places = b"", {}, {}
    for name, whole in wholes.items():
        places[name] = len(stream) // BLOCK
        end = HEAD + sum(SIZES)
        stubs[f"tex/{name}.dds"] = (
            whole[:WORD] + struct.pack("<I", places[name]) + whole[WORD + 4 : HEAD] + whole[end:]
        )
        stream += whole[HEAD:end] + noise.bytes(BLOCK * int(noise.integers(1, 9)))
    return stubs, stream, places


@pytest.fixture(params=["loose", "packed"])
def game(request: pytest.FixtureRequest, tmp_path: Path, wholes: dict[str, bytes]) -> Path:
    """The shared file lies loose in the game's folder, or packed in its archive."""
    stubs, stream, _ = _cut(wholes)
    folder = tmp_path / "shared"
    (folder / "cache").mkdir(parents=True)
    with zipfile.ZipFile(folder / "a.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in stubs.items():
            archive.writestr(name, data)
        # As large, and of one colour: a picture that says nothing.
        archive.writestr("tex/blank.dds", encode_new(np.full((16, 16, 4), 90, np.uint8), formats.get("bc1"), 5))
        if request.param == "packed":
            archive.writestr(STREAM, stream)
    if request.param == "loose":
        (folder / STREAM).write_bytes(stream)
    (folder / "cache/noise.bin").write_bytes(np.random.default_rng(6).bytes(300_000))
    return folder


def _stream(folder: Path) -> bytes:
    if (folder / STREAM).exists():
        return (folder / STREAM).read_bytes()
    with zipfile.ZipFile(folder / "a.zip") as archive:
        return archive.read(STREAM)


def _opened(workspace: Workspace, folder: Path) -> str:
    return str(open_game(workspace, folder)["project"])


def _joined(workspace: Workspace, folder: Path) -> str:
    project = _opened(workspace, folder)
    half = halves_of(workspace, project, "a.zip//tex/sail.dds").halves[0]
    made = join(workspace, project, "a.zip//tex/sail.dds", half.pattern, smallest_first=False, at=half.at)
    assert made.names == sorted(f"tex/{name}.dds" for name in NAMES)
    return _opened(workspace, folder)


def _paint(workspace: Workspace, project: str, name: str) -> np.ndarray:
    """Turn a texture's colours round, as an editor would; the picture that went in."""
    address = f"a.zip//tex/{name}.dds"
    put_in_work(workspace, project, address)
    picture = asset_at(workspace, project, address).picture().copy()
    picture[..., :3] = 255 - picture[..., :3]
    take_file(workspace, project, address, write_image(picture), f"{name}.png")
    return picture


@pytest.mark.parametrize("name", ["hull", "mast"])
def test_the_place_is_found_by_the_picture_and_by_the_others(workspace: Workspace, game: Path, name: str) -> None:
    project = _opened(workspace, game)
    found = halves_of(workspace, project, f"a.zip//tex/{name}.dds")
    assert (found.levels, found.missing, found.assumed) == (AWAY, sum(SIZES), False)
    half = found.halves[0]
    assert (half.name, half.pattern, half.at) == (STREAM, STREAM, f"word_{WORD} * {BLOCK}")
    assert not half.smallest_first
    assert half.sure > 0.8
    assert f"for {len(NAMES) - 1} of {len(NAMES) - 1} others" in half.why[-1]
    assert [one.name for one in found.halves].count(STREAM) == 1, "one place in it, not each that fits by chance"


def test_joined_they_are_whole(workspace: Workspace, game: Path, wholes: dict[str, bytes]) -> None:
    project = _joined(workspace, game)
    for name, whole in wholes.items():
        texture = asset_at(workspace, project, f"a.zip//tex/{name}.dds")
        assert b"".join(texture.levels) == whole[HEAD:]
        by_pillow = np.asarray(Image.open(io.BytesIO(whole)).convert("RGBA"))
        assert np.abs(texture.picture().astype(int) - by_pillow).max() <= 8, "BC1 colours are rounded either way"
        assert texture.rewrite(texture.header, texture.levels) == _cut(wholes)[0][f"tex/{name}.dds"]
        assert workspace.find(project, f"a.zip//tex/{name}.dds").member.parts == [STREAM]


def test_two_edits_go_to_their_places_and_nothing_else_of_the_file_changes(
    workspace: Workspace, game: Path, wholes: dict[str, bytes]
) -> None:
    before, project, places = _stream(game), _joined(workspace, game), _cut(wholes)[2]
    made = {name: _paint(workspace, project, name) for name in ("sail", "deck")}
    plan = planning.plan(workspace, project)
    assert (plan.left_out, plan.faults) == ({}, [])
    assert {file.path for file in plan.files} == {"a.zip"} | ({STREAM} if (game / STREAM).exists() else set()), (
        "what is built is in the plan"
    )
    builds.build(workspace, project)
    after = _stream(game)
    assert len(after) == len(before)
    changed = np.flatnonzero(np.frombuffer(after, np.uint8) != np.frombuffer(before, np.uint8))
    ranges = [(places[name] * BLOCK, places[name] * BLOCK + sum(SIZES)) for name in made]
    assert len(changed) > 5000
    assert all(any(start <= at < end for start, end in ranges) for at in changed.tolist())
    for (start, end), (name, picture) in zip(ranges, made.items(), strict=True):
        whole = wholes[name][:HEAD] + after[start:end]
        seen = np.asarray(Image.open(io.BytesIO(whole + bytes(9999))).convert("RGBA"))
        assert np.abs(seen.astype(int) - picture).mean() < 6, "a DDS of it shows what was painted"
    # One of them goes back alone, then the other one.
    go_to(workspace, project, "a.zip//tex/deck.dds", 0)
    builds.build(workspace, project)
    alone = np.flatnonzero(np.frombuffer(_stream(game), np.uint8) != np.frombuffer(before, np.uint8))
    assert alone.size
    assert ranges[0][0] <= alone.min() <= alone.max() < ranges[0][1]
    go_to(workspace, project, "a.zip//tex/sail.dds", 0)
    builds.build(workspace, project)
    assert _stream(game) == before
    assert asset_at(workspace, project, "a.zip//tex/sail.dds").levels[0] == wholes["sail"][HEAD : HEAD + SIZES[0]]


def test_an_edit_is_shown_as_it_will_be_and_has_to_keep_its_bytes(workspace: Workspace, game: Path) -> None:
    project, address = _joined(workspace, game), "a.zip//tex/sail.dds"
    picture = _paint(workspace, project, "sail")
    edit = look_at(workspace, project, address)[1].edit
    assert np.abs(edit.picture().astype(int) - picture).mean() < 6
    with pytest.raises(FormatError, match="more or fewer bytes"):
        take_file(workspace, project, address, write_image(np.repeat(np.repeat(picture, 2, 0), 2, 1)), "large.png")
    assert planning.plan(workspace, project).edits == [address], "what came before stays"


def test_one_place_for_two_that_are_edited_differently(
    workspace: Workspace, tmp_path: Path, wholes: dict[str, bytes]
) -> None:
    """Two small files that say the same place: either edit can be built, both only where they are the same."""
    stubs, stream, _ = _cut(wholes)
    folder = tmp_path / "twice"
    folder.mkdir()
    with zipfile.ZipFile(folder / "a.zip", "w") as archive:
        for name, data in {**stubs, "tex/sail2.dds": stubs["tex/sail.dds"], STREAM: stream}.items():
            archive.writestr(name, data)
    project = _opened(workspace, folder)
    join(workspace, project, "a.zip//tex/sail.dds", STREAM, smallest_first=False, at=f"word_{WORD} * {BLOCK}")
    project = _opened(workspace, folder)
    _paint(workspace, project, "sail")
    _paint(workspace, project, "sail2")
    assert len(planning.plan(workspace, project).edits) == 2, "both are painted alike"
    other = _pictures()["hull"]
    take_file(workspace, project, "a.zip//tex/sail2.dds", write_image(other), "sail2.png")
    plan = planning.plan(workspace, project)
    assert plan.edits == ["a.zip//tex/sail.dds"]
    assert "both are edited" in plan.left_out["a.zip//tex/sail2.dds"]


def test_pictures_beside_unpacked_files_go_back_to_the_same_places(
    tmp_path: Path, wholes: dict[str, bytes]
) -> None:
    """Without a project: unpacked, two pictures laid beside their textures, what differs taken for the archive."""
    stubs, stream, places = _cut(wholes)
    with zipfile.ZipFile(tmp_path / "a.zip", "w") as archive:
        for name, data in {**stubs, STREAM: stream}.items():
            archive.writestr(name, data)
    (tmp_path / FOLDER).mkdir()
    (tmp_path / FOLDER / "shared.yaml").write_text(
        "layout: shared\ntitle: Shared\nkind: texture\nmatch: {names: ['tex/*.dds']}\nparts:\n"
        "  - {field: before, type: bytes, length: 44}\n  - {field: place, type: u32}\n"
        "  - {field: behind, type: bytes, length: 80}\n"
        "  - {pixels: pixels, facts: {width: {is: 128}, height: {is: 128}, format: bc1, mips: {is: 8}},"
        f" elsewhere: {{name: {STREAM}, at: place * {BLOCK}}}}}\n"
    )
    library = Library.of([tmp_path / FOLDER])
    container = open_path(tmp_path / "a.zip", [], library).container
    assert list(unpack(container, tmp_path / "out")) == []
    for name in ("sail", "deck"):
        picture = 255 - np.asarray(Image.open(io.BytesIO(wholes[name])).convert("RGB"))
        Image.fromarray(picture).save(tmp_path / f"out/tex/{name}.dds.png")
    edits = edits_in(container, tmp_path / "out", library)
    changed = {container.names[place]: one for place, one in edits.changed.items()}
    assert set(changed) == {"tex/sail.dds", "tex/deck.dds", STREAM}
    after = np.frombuffer(changed[STREAM].real, np.uint8)
    differ = np.flatnonzero(after != np.frombuffer(stream, np.uint8)) // BLOCK
    inside = [range(places[name], places[name] + sum(SIZES) // BLOCK) for name in ("sail", "deck")]
    assert all(any(block in some for some in inside) for block in set(differ.tolist()))
    assert all(any(block in differ for block in some) for some in inside)


def test_what_is_said_wrongly_is_refused(workspace: Workspace, game: Path) -> None:
    project, address = _opened(workspace, game), "a.zip//tex/sail.dds"
    with pytest.raises(LayoutError, match="not known at that place"):
        join(workspace, project, address, STREAM, smallest_first=False, at="nowhere * 2")
    with pytest.raises(FormatError, match="not as large"):
        join(workspace, project, address, STREAM, smallest_first=False, at=f"word_{WORD} * 65536000")
    layout = (
        "layout: one\ntitle: One\nkind: texture\nmatch: {names: ['*.one']}\nparts:\n"
        "  - {field: width, type: u16}\n  - {field: at, type: u32}\n"
        "  - {pixels: pixels, facts: {width: width, height: width, format: bc1, mips: 3},"
        " elsewhere: {name: NAME, at: AT}}\n"
    )
    assert parse(layout.replace("NAME", "all.bin").replace("AT", "at * 16")).streamed
    with pytest.raises(LayoutError, match="no field says"):
        parse(layout.replace("NAME", "all.bin").replace("AT", "att * 16"))
    with pytest.raises(LayoutError, match="no {level}"):
        parse(layout.replace("NAME", "'{level}.bin'").replace("AT", "at"))


def test_stretches_lie_beside_each_other_or_say_the_same() -> None:
    some = Stretches()
    some.put(8, b"bbbb", "two")
    some.put(0, b"aaaa", "one")
    some.put(4, b"cccc", "three")
    some.put(8, b"bbbb", "another")
    assert some.over(bytes(14)) == b"aaaaccccbbbb\0\0"
    for start, data in ((6, b"xx"), (10, b"bb"), (0, b"aaab"), (0, bytes(40)), (11, b"xxxxxx")):
        with pytest.raises(FormatError, match="both are edited"):
            some.put(start, data, "late")
    some.put(12, b"dd", "last")
    with pytest.raises(FormatError, match="beyond the end"):
        some.over(bytes(13))
