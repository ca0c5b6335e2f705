"""Names of nothing, and how existing ones are spelt in their place."""

from __future__ import annotations

import pytest

from brae.core.assets.text.text import Text
from brae.core.find.links import Names
from brae.core.find.mentions import Mention, lines_of, mentions_in
from brae.core.find.spelling import spelt_like, wrong_names

ITEMS = {
    "a.pak//textures/boat/hull.ptx": "textures/boat/hull.ptx",
    "a.pak//textures/boat/sail.ptx": "textures/boat/sail.ptx",
    "a.pak//sounds/bell.snd": "sounds/bell.snd",
    "a.pak//readme.txt": "readme.txt",
}
NAMES = Names(ITEMS.items())


@pytest.mark.parametrize(
    ("written", "wanted"),
    [
        ("textures/boat/hul.ptx", "textures/boat/hull.ptx"),
        ("textures\\boat\\hul.ptx", "textures\\boat\\hull.ptx"),
        ("boat/hul.ptx", "boat/hull.ptx"),
        ("hul.ptx", "hull.ptx"),
        ("boat/hul.png", "boat/hull.png"),
        ("boat/hul", "boat/hull"),
        ("/textures/boat/hul.ptx", "/textures/boat/hull.ptx"),
    ],
)
def test_what_is_written_instead_has_the_same_folders_slashes_and_ending(written: str, wanted: str) -> None:
    spelt = spelt_like(Mention(written, 1, written, True), ITEMS["a.pak//textures/boat/hull.ptx"], NAMES)
    assert spelt == wanted
    assert NAMES.resolve(Mention(spelt, 1, spelt, True))[1] == ["a.pak//textures/boat/hull.ptx"]


def _said(text: str) -> list[Mention]:
    return list(mentions_in(lines_of(text)))


def test_only_what_the_older_version_has_not_is_told() -> None:
    before = 'old = "gone/away.ptx"\nhull = "textures/boat/hull.ptx"\n'
    after = before + 'sail = "textures/boat/sial.ptx"\nagain = "textures/boat/sial.ptx"\nwords = "nothing here"\n'
    (wrong,) = wrong_names(_said(after), _said(before), NAMES, ITEMS)
    assert (wrong.text, wrong.line) == ("textures/boat/sial.ptx", 3)
    assert wrong.instead[0] == "textures/boat/sail.ptx"
    assert wrong_names(_said(before), _said(before), NAMES, ITEMS) == []


def test_a_name_is_replaced_where_it_stands_by_itself() -> None:
    text = Text("a/b.ptx = xa/b.ptx, a/b.ptx2; 'a/b.ptx' C:\\a/b.ptx\n", "utf-8")
    assert text.renamed({"a/b.ptx": "c\\d.ptx"}).text == "c\\d.ptx = xa/b.ptx, a/b.ptx2; 'c\\d.ptx' C:\\a/b.ptx\n"
