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
HULL = "a.pak//textures/boat/hull.ptx"
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
    spelt = spelt_like(Mention(written, 1, written, True), HULL, ITEMS[HULL], NAMES)
    assert spelt == wanted
    assert NAMES.resolve(Mention(spelt, 1, spelt, True))[1] == ["a.pak//textures/boat/hull.ptx"]


def test_a_name_that_another_item_has_as_well_is_written_with_its_folder() -> None:
    items = {"a.pak//far/hull.ptx": "far/hull.ptx", HULL: ITEMS[HULL]}
    names = Names(items.items())
    assert "hull.ptx" in (spelt := spelt_like(Mention("hul.ptx", 1, "hul.ptx", True), HULL, ITEMS[HULL], names))
    assert HULL in names.resolve(Mention(spelt, 1, spelt, True))[1]


def test_of_very_many_names_of_nothing_some_are_told() -> None:
    text = "".join(f'"textures/boat/gone_{number}.ptx"\n' for number in range(5000))
    assert len(wrong_names(_said(text), [], NAMES, ITEMS, most=20)) == 20
    both = wrong_names(_said('"boat/Hul.ptx" "boat/hul.ptx"'), [], NAMES, ITEMS)
    assert [one.text for one in both] == ["boat/Hul.ptx", "boat/hul.ptx"], "each is written for itself"


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
