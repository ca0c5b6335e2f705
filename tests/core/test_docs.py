"""What the documents show is true."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from brae.core.assets.texture import formats
from brae.core.containers.described import open_archive
from brae.core.containers.opened import standards
from brae.core.containers.recognise import recognise  # noqa: F401  registers them
from brae.core.games.model import GameProfile
from brae.core.layouts.load import parse, parse_as
from brae.core.layouts.model import Layout
from brae.core.sources import MAIN, BytesSource
from tests.core.families import FAMILIES

DOCS = Path(__file__).parents[2] / "docs"
TEXT = (DOCS / "layouts.md").read_text()
COOKBOOK = (DOCS / "cookbook.md").read_text()
BLOCKS = [block for block in re.findall(r"```yaml\n(.*?)```", TEXT + COOKBOOK, re.DOTALL) if "layout:" in block[:8]]
WHOLE = [block for block in BLOCKS if "…" not in block]


@pytest.mark.parametrize("block", WHOLE, ids=lambda block: block.split()[1])
def test_layouts_in_the_documents_are_layouts(block: str) -> None:
    assert isinstance(parse(block), Layout)


def test_every_pixel_format_is_explained() -> None:
    text = (DOCS / "formats.md").read_text()
    named = {pixel_format.name.removesuffix("-be") for pixel_format in formats.all_formats()}
    assert {name for name in named if f"`{name}`" not in text} == set()


def test_every_layout_of_the_cookbook_has_a_writer_that_tests_it() -> None:
    shown = set(re.findall(r"^layout: cook-(.*)$", COOKBOOK, re.MULTILINE))
    assert shown == {family.name for family in FAMILIES if family.layout.startswith("layout: cook-")}
    headings = {
        re.sub(r"[^a-z -]", "", line[3:].lower()).replace(" ", "-")
        for line in COOKBOOK.splitlines()
        if line.startswith("## ")
    }
    assert set(re.findall(r"\]\(#([a-z-]+)\)", COOKBOOK)) == headings


GAMES = (DOCS / "games.md").read_text()


def test_the_example_of_a_game_profile_is_one_and_every_word_is_explained() -> None:
    block = re.search(r"```yaml\n(.*?)```", GAMES, re.DOTALL)
    assert block is not None
    profile = parse_as(GameProfile, block[1], "games.md")
    assert [way.way for way in profile.ways] == ["archive", "loose", "add-on"]
    schema = GameProfile.model_json_schema(by_alias=True)
    words = set(schema["properties"])
    for definition in schema["$defs"].values():
        for name, value in definition.get("properties", {}).items():
            words |= {name, *value.get("enum", [])}
    words -= {"edition", "way", "file", "folder", "section", "text", "order", "first", "last", "/", "\\"}
    assert {word for word in words if f"`{word}`" not in GAMES} == set()


def test_every_open_container_is_in_the_document() -> None:
    text = (DOCS / "containers.md").read_text().lower()
    assert {one.name for one in standards().values() if one.title.split()[0].lower() not in text} == set()


def test_the_first_example_is_the_bytes_beside_it() -> None:
    """The hexadecimal line of the document, read by the layout below it, gives what the document says."""
    line = next(line for line in TEXT.splitlines() if line.startswith("    52 41 57 31"))
    archive = open_archive(parse(WHOLE[0]), {MAIN: BytesSource(bytes.fromhex(line))})
    assert archive.prove().exact
    assert (archive.names, [archive.read(0), archive.read(1)]) == (["0000", "0001"], [b"abc", b"de"])


def test_every_key_and_role_is_explained() -> None:
    """A word of the language that the document does not mention cannot be found by a person."""
    schema = Layout.model_json_schema(by_alias=True)
    words: set[str] = set()
    for definition in [schema, *schema["$defs"].values()]:
        words |= set(definition.get("properties", {}))
        for value in definition.get("properties", {}).values():
            for choice in [value, *value.get("anyOf", [])]:
                words |= {word for word in choice.get("enum", []) if isinstance(word, str)}
    missing = {word for word in words if not re.search(rf"(?<![a-z]){re.escape(word)}(?![a-z])", TEXT)}
    # Types are given as ranges ("i8 … i64").
    assert missing - {f"i{bits}" for bits in range(16, 64, 8)} == set()
