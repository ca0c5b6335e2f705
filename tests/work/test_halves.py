"""Textures of which only the small levels are here. Pictures: scikit-image's; whole files are read by Pillow."""

from __future__ import annotations

import io
import zipfile
import zlib
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from brae.core.assets.texture import dds, formats
from brae.core.assets.texture.encode import encode_new
from brae.core.assets.texture.stub import stub_of
from brae.core.errors import FormatError
from brae.core.layouts.library import Library
from brae.work import Workspace
from brae.work.edits import put_in_work
from brae.work.halves import halves_of, join
from brae.work.items import asset_at
from brae.work.opening import open_game
from tests.core.find.photos import pieces

SIDE, LEVELS, AWAY = 128, 8, 3


def _whole(number: int, name: str = "bc1") -> bytes:
    picture = list(pieces().values())[number][:SIDE, :SIDE]
    return encode_new(picture, formats.get(name), LEVELS)


def _cut(whole: bytes, *, smallest_first: bool = False) -> tuple[bytes, bytes]:
    """A DDS file without its largest levels, and those."""
    head = dds.read_header(whole)
    sizes = [head.header.level_size(level) for level in range(AWAY)]
    ends = np.cumsum(sizes) + len(head.raw)
    levels = [whole[end - size : end] for end, size in zip(ends.tolist(), sizes, strict=True)]
    return head.raw + whole[ends[-1] :], b"".join(levels[::-1] if smallest_first else levels)


def _game(folder: Path, members: dict[str, bytes]) -> Path:
    folder.mkdir()
    with zipfile.ZipFile(folder / "a.zip", "w") as archive:
        for name, data in members.items():
            archive.writestr(name, data)
    return folder


def _opened(workspace: Workspace, folder: Path) -> str:
    return str(open_game(workspace, folder)["project"])


@pytest.fixture
def game(tmp_path: Path) -> Path:
    members = {"tex/whole.dds": _whole(2), "tex/wide.dds": _cut(_whole(3, "bc3"))[0]}
    for number, name in enumerate(("hull", "sail")):
        members[f"tex/{name}.dds"], members[f"streams/tex/{name}.lvl"] = _cut(_whole(number))
    # As large, and something else; one of them is called alike.
    members["streams/far/hull.lvl"] = _cut(_whole(4))[1]
    members["streams/noise.bin"] = np.random.default_rng(1).bytes(len(members["streams/tex/hull.lvl"]))
    return _game(tmp_path / "stubs", members)


def test_a_stub_is_noticed_and_its_other_half_found_by_size_name_and_picture(
    workspace: Workspace, game: Path
) -> None:
    project = _opened(workspace, game)
    facts = {name: workspace.find(project, f"a.zip//tex/{name}.dds").member.facts for name in ("hull", "whole")}
    assert (facts["hull"]["beyond"], facts["whole"].get("beyond")) == (AWAY, None)
    found = halves_of(workspace, project, "a.zip//tex/hull.dds")
    assert (found.levels, found.missing) == (AWAY, len(_cut(_whole(0))[1]))
    assert found.halves[0].name == "streams/tex/hull.lvl"
    assert found.halves[0].sure > 0.9 > found.halves[1].sure + 0.2
    assert len(found.halves[0].why) == 3
    assert halves_of(workspace, project, "a.zip//tex/whole.dds").halves == []
    assert halves_of(workspace, project, "a.zip//tex/wide.dds").halves == [], "no item has that size"


def test_what_is_here_is_shown_and_not_edited(workspace: Workspace, game: Path) -> None:
    project = _opened(workspace, game)
    small = asset_at(workspace, project, "a.zip//tex/hull.dds")
    assert (small.header.width, small.header.levels, small.beyond) == (SIDE >> AWAY, LEVELS - AWAY, AWAY)
    assert small.levels == dds.read(_whole(0)).levels[AWAY:]
    with pytest.raises(FormatError, match="Only its small levels are here"):
        put_in_work(workspace, project, "a.zip//tex/hull.dds")


@pytest.mark.parametrize("cut", [40, 1, 10_000])
def test_a_file_cut_short_anywhere_is_no_stub(cut: int) -> None:
    whole = _whole(0)
    assert stub_of(whole[:-cut], "a.dds", Library.of([])) is None
    assert stub_of(_cut(whole)[0], "a.dds", Library.of([])) is not None


def test_one_press_joins_all_that_are_alike(workspace: Workspace, game: Path) -> None:
    project = _opened(workspace, game)
    made = join(workspace, project, "a.zip//tex/hull.dds", "streams/{path}.lvl", smallest_first=False)
    assert made.names == ["tex/hull.dds", "tex/sail.dds"]
    open_game(workspace, game)
    for number, name in enumerate(("hull", "sail")):
        texture = asset_at(workspace, project, f"a.zip//tex/{name}.dds")
        assert texture.header.levels == LEVELS
        by_pillow = np.asarray(Image.open(io.BytesIO(_whole(number))).convert("RGBA"))
        assert np.abs(texture.picture().astype(int) - by_pillow).max() <= 8, "BC1 colours are rounded either way"
        member = workspace.find(project, f"a.zip//tex/{name}.dds").member
        assert (member.parts, member.facts.get("beyond")) == ([f"streams/tex/{name}.lvl"], None)
    assert workspace.find(project, "a.zip//tex/whole.dds").member.container == "dds"
    with pytest.raises(FormatError, match="all the levels"):
        join(workspace, project, "a.zip//tex/hull.dds", "streams/{path}.lvl", smallest_first=False)
    again = asset_at(workspace, project, "a.zip//tex/hull.dds")
    assert again.rewrite(again.header, again.levels) == _cut(_whole(0))[0]


def test_smallest_first_and_a_name_that_is_a_hash(workspace: Workspace, tmp_path: Path) -> None:
    stub, rest = _cut(_whole(0), smallest_first=True)
    other = f"{zlib.crc32(b'tex/hull.dds'):08x}.bin"
    folder = _game(
        tmp_path / "hashed", {"tex/hull.dds": stub, f"cache/{other}": rest, "cache/ffff0000.bin": rest[::-1]}
    )
    project = _opened(workspace, folder)
    first = halves_of(workspace, project, "a.zip//tex/hull.dds").halves[0]
    assert (first.name, first.smallest_first) == (f"cache/{other}", True)
    assert any("crc32 hash of tex/hull.dds" in why for why in first.why)
    assert join(workspace, project, "a.zip//tex/hull.dds", first.pattern, smallest_first=True).names == [
        "tex/hull.dds"
    ]
    open_game(workspace, folder)
    assert asset_at(workspace, project, "a.zip//tex/hull.dds").levels == dds.read(_whole(0)).levels


def test_one_item_for_each_level(workspace: Workspace, tmp_path: Path) -> None:
    stub, rest = _cut(_whole(0))
    sizes = [dds.read_header(_whole(0)).header.level_size(level) for level in range(AWAY)]
    ends = np.cumsum(sizes).tolist()
    members = {f"mips/hull_{k}.mip": rest[end - sizes[k] : end] for k, end in enumerate(ends)}
    folder = _game(tmp_path / "each", {"tex/hull.dds": stub, **members, "mips/hull_far_0.mip": bytes(sizes[0])})
    project = _opened(workspace, folder)
    (half,) = halves_of(workspace, project, "a.zip//tex/hull.dds").halves
    assert half.pattern == "mips/{stem}_{level}.mip"
    join(workspace, project, "a.zip//tex/hull.dds", half.pattern, smallest_first=False)
    open_game(workspace, folder)
    assert asset_at(workspace, project, "a.zip//tex/hull.dds").levels == dds.read(_whole(0)).levels


def test_a_layout_without_a_word_on_it_is_joined_as_well(workspace: Workspace, tmp_path: Path) -> None:
    whole, rest = _cut(_whole(1))
    pixels = whole[len(dds.read_header(whole).raw) :]
    header = b"FLTX" + SIDE.to_bytes(2, "little") * 2 + bytes([LEVELS])
    folder = _game(tmp_path / "own", {"t/gull.flt": header + pixels, "s/t/gull.big": rest})
    (workspace.home.layouts / "flt.yaml").write_text(
        "layout: flt\ntitle: Flat textures\nkind: texture\nparts:\n"
        '  - {field: magic, type: bytes, length: 4, value: "FLTX"}\n'
        "  - {field: width, type: u16}\n  - {field: height, type: u16}\n  - {field: levels, type: u8}\n"
        "  - {pixels: pixels, facts: {width: width, height: height, format: bc1, mips: levels}}\n"
    )
    project = _opened(workspace, folder)
    assert workspace.find(project, "a.zip//t/gull.flt").member.facts["beyond"] == AWAY
    join(workspace, project, "a.zip//t/gull.flt", "s/{path}.big", smallest_first=False)
    open_game(workspace, folder)
    assert asset_at(workspace, project, "a.zip//t/gull.flt").levels == dds.read(_whole(1)).levels


def test_the_other_half_is_found_among_very_many_as_large(workspace: Workspace, tmp_path: Path) -> None:
    stub, rest = _cut(_whole(0))
    others = {f"data/{number:05}.bin": bytes(len(rest)) for number in range(3000)}
    folder = _game(tmp_path / "many", {"tex/hull.dds": stub, **others, "z/hull.lvl": rest})
    project = _opened(workspace, folder)
    assert halves_of(workspace, project, "a.zip//tex/hull.dds").halves[0].name == "z/hull.lvl"


def _end(whole: bytes) -> tuple[bytes, bytes]:
    """A DDS file that is whole by its own header, of its smallest levels alone; and the larger ones."""
    head = dds.read_header(whole)
    small = encode_new(np.zeros((SIDE >> AWAY, SIDE >> AWAY, 4), np.uint8), head.header.format, LEVELS - AWAY)
    stub, rest = _cut(whole)
    return small[: len(dds.read_header(small).raw)] + stub[len(head.raw) :], rest


def test_a_small_file_that_is_whole_by_its_own_header_is_joined_with_what_lies_above(
    workspace: Workspace, tmp_path: Path
) -> None:
    members = {}
    for number, name in enumerate(("hull", "sail", "mast")):
        members[f"tex/{name}.dds"], members[f"big/{name}.lvl"] = _end(_whole(number))
    # Called alike and as large, and another picture; small, and nothing is above it.
    members["big/mast.lvl"] = _cut(_whole(4))[1]
    members["tex/stamp.dds"] = encode_new(list(pieces().values())[5][:16, :16], formats.get("bc1"), 5)
    folder = _game(tmp_path / "ends", members)
    project = _opened(workspace, folder)
    found = halves_of(workspace, project, "a.zip//tex/hull.dds")
    assert (found.levels, found.assumed, [one.name for one in found.halves]) == (AWAY, True, ["big/hull.lvl"])
    for name in ("mast", "stamp"):
        assert halves_of(workspace, project, f"a.zip//tex/{name}.dds").halves == []
    made = join(workspace, project, "a.zip//tex/hull.dds", found.halves[0].pattern, smallest_first=False)
    assert made.names == ["tex/hull.dds", "tex/sail.dds"]
    open_game(workspace, folder)
    for number, name in enumerate(("hull", "sail")):
        texture = asset_at(workspace, project, f"a.zip//tex/{name}.dds")
        assert (texture.header.width, texture.levels) == (SIDE, dds.read(_whole(number)).levels)
        assert texture.rewrite(texture.header, texture.levels) == members[f"tex/{name}.dds"]
        assert workspace.find(project, f"a.zip//tex/{name}.dds").member.parts == [f"big/{name}.lvl"]
    assert halves_of(workspace, project, "a.zip//tex/hull.dds").levels == 0


def test_what_does_not_fit_is_not_joined(workspace: Workspace, game: Path) -> None:
    project = _opened(workspace, game)
    with pytest.raises(FormatError, match="not as large"):
        join(workspace, project, "a.zip//tex/hull.dds", "tex/whole.dds", smallest_first=False)
    with pytest.raises(FormatError, match="all the levels"):
        join(workspace, project, "a.zip//tex/whole.dds", "streams/noise.bin", smallest_first=False)
    with pytest.raises(FormatError, match="not known"):
        join(workspace, project, "a.zip//tex/hull.dds", "{nothing}.lvl", smallest_first=False)
    assert list(workspace.home.layouts.glob("*.yaml")) == []
