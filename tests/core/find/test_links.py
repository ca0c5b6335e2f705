"""What items need of each other, in files of open standards that name others: MTL, glTF, cue sheets."""

from __future__ import annotations

import struct
import zipfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brae.core.find import links
from brae.core.find.folder import items_in
from brae.core.find.graph import Lines, Linked, lines_with, links_of
from brae.core.find.links import Link, Links, Names
from brae.core.find.mentions import Mention, lines_of, mentions_in, strings_in
from brae.core.layouts.library import Library

#: Wavefront MTL: statements map_Kd, bump with options before the file (Wavefront, MTL 4.2)
MTL = "newmtl deck\nKd 0.8 0.8 0.8\nmap_Kd textures/deck.png\nbump -bm 0.5 deck_n.png\nillum 2\n"
#: glTF 2.0, 5.9 and 5.18: buffers and images by uri
GLTF = '{"asset": {"version": "2.0"},\n "images": [{"uri": "textures/deck.png"}, {"uri": "textures/rail.jpg"}],\n'
GLTF += ' "buffers": [{"uri": "boat.bin", "byteLength": 840}], "extras": "https://example.org/textures/deck.png"}\n'
#: a cue sheet's FILE line
CUE = 'FILE "HARBOUR SONG.WAV" WAVE\n  TRACK 01 MODE2/2352\n    INDEX 01 00:00:00\n'
FILES = {
    "models/boat.mtl": MTL, "models/boat.gltf": GLTF, "music/disc.cue": CUE, "models/boat.bin": "\0" * 840,
    "models/textures/deck.png": "\0", "models/deck_n.png": "\0", "models/textures/rails.jpg": "\0",
    "music/harbour song.wav": "\0",
}  # fmt: skip


@pytest.fixture(scope="module")
def found(tmp_path_factory: pytest.TempPathFactory) -> Links:
    folder = tmp_path_factory.mktemp("game")
    for name, content in FILES.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(content)
    return _links(folder)


def _links(folder: Path) -> Links:
    items = items_in(folder, Library())
    return links_of([Linked(one.address, one.item.name, one.item.kind, one.read, one.refers) for one in items])


def _needs(found: Links, address: str) -> dict[str, str]:
    return {one.target: one.how for one in found.needs(address)}


def test_files_of_open_standards_lead_to_what_they_name(found: Links) -> None:
    deck = "models/textures/deck.png"
    assert _needs(found, "models/boat.mtl") == {deck: links.PATH, "models/deck_n.png": links.NAME}
    assert _needs(found, "models/boat.gltf") == {deck: links.PATH, "models/boat.bin": links.NAME}
    assert _needs(found, "music/disc.cue") == {"music/harbour song.wav": links.NAME}
    assert {one.owner for one in found.used_by(deck)} == {"models/boat.mtl", "models/boat.gltf"}
    first = found.needs("models/boat.mtl")[0]
    assert (first.place, first.line) == (3, "map_Kd textures/deck.png")


def test_what_is_missing_is_told_with_the_nearest(found: Links) -> None:
    assert [(one.owner, one.text, one.nearest[0]) for one in found.missing] == [
        ("models/boat.gltf", "textures/rail.jpg", "models/textures/rails.jpg")
    ]
    assert found.missing_in("models/boat.gltf")
    assert not found.missing_in("models/boat.mtl")
    unused = found.unused(["models/textures/rails.jpg", "models/textures/deck.png"])
    assert unused == {"models/textures/rails.jpg"}


def test_members_are_found_by_their_archive_and_inside_it(tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "boats.zip", "w") as archive:
        archive.writestr("hull.tga", b"\x01" * 40)
        archive.writestr("ui/hull.txt", "picture = boats/hull.tga\nother = ui\\HULL\nsmall = 0.2\n")
    found = _links(tmp_path)
    needs = found.needs("boats.zip//ui/hull.txt")
    assert [(one.target, one.how, one.text) for one in needs] == [
        ("boats.zip//hull.tga", links.PATH, "boats/hull.tga")
    ]


NAMES = [
    ("a.zip//textures/hull.dds", "textures/hull.dds"),
    ("a.zip//textures/mast.dds", "textures/mast.dds"),
    ("a.zip//ui/hull.dds", "ui/hull.dds"),
    ("b.zip//deck.dds", "deck.dds"),
]


@pytest.mark.parametrize(
    ("text", "whole", "how", "wanted"),
    [
        ("textures/hull.dds", False, links.PATH, [0]),
        ("TEXTURES\\Hull.DDS", False, links.PATH, [0]),
        ("data/textures/hull.dds", False, links.PATH, [0]),
        ("a.zip/textures/hull.dds", False, links.PATH, [0]),
        ("b/deck.dds", False, links.PATH, [3]),
        ("hull.dds", False, links.NAME, [0, 2]),
        ("textures/hull", False, links.NO_ENDING, [0]),
        ("textures/hull.tga", False, links.OTHER_ENDING, [0]),
        ("mast", True, links.NO_ENDING, [1]),
        ("mast", False, links.NAME, []),
        ("mast.tga", False, links.NAME, []),
        ("sounds/hull.dds", False, links.NAME, []),
        ("other/deck.dds", False, links.NAME, []),
        ("/", True, links.NAME, []),
    ],
)
def test_a_name_is_taken_as_games_take_it(text: str, whole: bool, how: str, wanted: list[int]) -> None:
    """Common practice, no source."""
    found = Names(NAMES).resolve(Mention(text, 1, text, whole))
    assert found == (how, [NAMES[number][0] for number in wanted])


WORDS = st.text("abc/.\\\"'=: _09é", max_size=40)


@given(st.lists(WORDS, max_size=6), st.lists(WORDS.filter(bool), max_size=6, unique=True))
def test_any_lines_and_names_do(lines: list[str], names: list[str]) -> None:
    """Whatever stands there: every link leads to an item, and none to its owner."""
    items = [(f"z.zip//{number}", name) for number, name in enumerate(names)]
    found = Links()
    found.add("z.zip//0", mentions_in(lines_of("\n".join(lines))), Names(items))
    assert {one.target for one in found.links} <= {address for address, _ in items[1:]}
    assert all(one.text in "\n".join(lines) for one in found.links)


@given(st.binary(max_size=60), st.integers(0, 40))
def test_strings_are_found_in_other_data(data: bytes, at: int) -> None:
    name = "textures/hull.dds"
    both = data[:at] + b"\0\0" + name.encode() + b"\0\0\0" + name.encode("utf-16-le") + b"\0\0" + data[at:]
    places = {place for place, text in strings_in(both) if text == name}
    assert {len(data[:at]) + 2, len(data[:at]) + 5 + len(name)} <= places
    found = Links()
    found.add("x", mentions_in(strings_in(both), strings=True), Names(NAMES))
    assert found.needs("x")[0].target == NAMES[0][0]


def test_numbers_and_words_of_a_language_name_nothing(tmp_path: Path) -> None:
    (tmp_path / "noise.dat").write_bytes(b"\x02" + struct.pack("<6sB6s", b"d.J!Zq", 0, b"hull's") + b"\0")
    (tmp_path / "story.txt").write_text("The hull\nHull\nShe said: mast, then 0.2 of it. See a.e. for more.\n")
    names = Names(NAMES)
    for file, read in (("noise.dat", strings_in), ("story.txt", None)):
        data = (tmp_path / file).read_bytes()
        lines = strings_in(data) if read else lines_of(data.decode())
        spoken = [one for one in mentions_in(lines, strings=read is not None) if names.resolve(one)[1]]
        assert spoken == []


def test_references_of_layouts_and_mentions_go_together() -> None:
    found = Links(links=[Link("a", "b", links.REFERENCE)])
    assert [one.how for one in found.needs("a")] == ["reference"]
    found.add("c", [Mention("textures/hull", 1, "", False)], Names(NAMES))
    assert {one.owner for one in found.used_by(NAMES[0][0])} == {"c"}


def test_lines_with_words() -> None:
    said: list[tuple[str, Lines]] = [("a", [(1, "The harbour bell"), (4, "A bell")]), ("b", [(2, "HARBOUR, bell")])]
    assert [(one.address, one.place) for one in lines_with("bell Harbour", said)] == [("a", 1), ("b", 2)]
    assert not list(lines_with(" ", said))
