"""Game profiles: the words, lines in settings, which copy wins. Settings syntax is common practice, no source."""

from __future__ import annotations

import configparser
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brae.core.errors import BraeError, FormatError, LayoutError, LimitError
from brae.core.games.known import profiles_in
from brae.core.games.model import GameProfile, Register
from brae.core.games.order import Copies, Place, places_of
from brae.core.games.settings import register
from brae.core.games.signs import edition_in, game_in, missing_halves
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse_as
from brae.demo import LAYOUTS, disc

LIBRARY = Library.of([LAYOUTS])
PROFILE = """
game: rowing
title: Rowing
signs: [{file: row.ini}]
"""


def rule(**more: object) -> Register:
    """A rule for the section [archives] of row.ini."""
    values: dict[str, object] = {"file": "row.ini", "section": "archives", "line": "{stem} = {file}"}
    return Register.model_validate(values | more)


SETTINGS = (
    b"; first\r\n[video]\r\nmips = all\r\n\r\n[archives]\r\n; in this order\r\n"
    b"main = a.kist\r\nzoo = z.kist\r\n\r\n[end]\r\nx = 1\r\n"
)


def test_the_profiles_that_ship_are_valid() -> None:
    assert LIBRARY.errors == {}
    profiles, errors = profiles_in(LIBRARY.folders)
    assert errors == {}
    assert set(profiles) == {"skerry-post-desktop", "skerry-post-disc"}


def test_a_line_goes_above_the_games_own_and_below_its_comment() -> None:
    made = register(SETTINGS, rule(), ["boat = b.kist"])
    assert made == SETTINGS.replace(b"main = a", b"boat = b.kist\r\nmain = a")


def test_below_and_in_order() -> None:
    assert register(SETTINGS, rule(place="bottom"), ["boat = b.kist"]) == SETTINGS.replace(
        b"zoo = z.kist\r\n", b"zoo = z.kist\r\nboat = b.kist\r\n"
    )
    assert register(SETTINGS, rule(place="sorted"), ["net = n.kist"]) == SETTINGS.replace(
        b"zoo = z", b"net = n.kist\r\nzoo = z"
    )


def test_a_line_that_is_there_is_not_repeated() -> None:
    assert register(SETTINGS, rule(), ["MAIN=a.kist"]) == SETTINGS


def test_what_the_loader_would_choke_on_is_refused() -> None:
    with pytest.raises(LimitError, match="20 bytes; the game reads 12"):
        register(SETTINGS, rule(longest=12), ["boat = boat/boat.kis"])
    with pytest.raises(LimitError, match="room for 2 lines"):
        register(SETTINGS, rule(most=2), ["boat = b.kist"])
    with pytest.raises(FormatError, match=r"no section \[cargo\]"):
        register(SETTINGS, rule(section="cargo"), ["boat = b.kist"])
    with pytest.raises(FormatError, match="not ascii"):
        register("[archives]\nä = 1\n".encode(), rule(encoding="ascii"), ["b = 1"])
    with pytest.raises(FormatError, match="cannot be written as ascii"):
        register(SETTINGS, rule(encoding="ascii"), ["böat = b"])


def test_a_plain_list_without_sections_and_without_an_end_of_line() -> None:
    listing = rule(section=None, line="{name}", place="bottom")
    assert (
        register(b"one.slt\ntwo.slt", listing, ["three.slt", "four.slt"])
        == b"one.slt\ntwo.slt\nthree.slt\nfour.slt\n"
    )
    assert register(b"", listing, ["one.slt"]) == b"one.slt\n"


keys = st.text("abcdefgh", min_size=1, max_size=6)


@given(
    st.dictionaries(keys, keys, max_size=5),
    st.dictionaries(keys.map(lambda key: f"new{key}"), keys, min_size=1, max_size=4),
    st.sampled_from(["top", "bottom", "sorted"]),
    st.sampled_from(["\n", "\r\n"]),
    st.sampled_from(["utf-8", "latin-1", "utf-16"]),
)
def test_every_old_line_stays_and_the_new_ones_are_read(
    old: dict[str, str], new: dict[str, str], place: str, end: str, encoding: str
) -> None:
    """Read back by Python's own reader of such files."""
    lines = [
        "# head",
        "[other]",
        "k = v",
        "[archives]",
        "; note",
        *(f"{k} = {v}" for k, v in old.items()),
        "[last]",
        "z = 1",
    ]
    text = end.join(lines).encode(encoding)
    made = register(text, rule(place=place, encoding=encoding), [f"{k} = {v}" for k, v in new.items()]).decode(
        encoding
    )
    kept = made.split(end)
    assert [line for line in kept if line.rstrip() in lines] == lines
    settings = configparser.ConfigParser()
    settings.read_string(made)
    assert dict(settings["archives"]) == old | new
    read = list(settings["archives"])
    if place == "top":
        assert read == [*new, *old]
    elif place == "bottom":
        assert read == [*old, *new]


def test_the_first_place_wins_whatever_the_case_of_the_name() -> None:
    profile = parse_as(
        GameProfile,
        f"{PROFILE}loading:\n  - {{loose: loose}}\n  - {{archives: 'addons/*.kist'}}\n"
        "  - {listed: row.ini, section: archives}\n",
        "test",
    )
    archives = ["a.kist", "z.kist", "addons/one.kist", "addons/two.kist"]
    places = places_of(profile, archives, lambda path: SETTINGS)
    assert places == [
        Place("loose", True),
        Place("addons/two.kist", False),
        Place("addons/one.kist", False),
        Place("a.kist", False),
        Place("z.kist", False),
    ]
    copies = Copies(places)
    items = [
        ("a.kist", "ui/lamp.slt", "1"),
        ("z.kist", "ui/lamp.slt", "2"),
        ("addons/one.kist", "UI/Lamp.slt", "3"),
        (None, "loose/ui/oar.slt", "4"),
        ("a.kist", "ui/oar.slt", "5"),
        ("unlisted.kist", "ui/oar.slt", "6"),
    ]
    copies.add(items)
    assert [copies.winner(main, name) for main, name, _ in items] == ["3", "3", "3", "4", "4", None]


def test_games_and_editions_are_told_apart(made_demo: Path, made_disc: Path, tmp_path: Path) -> None:
    desktop_profile, disc_profile = game_in(made_demo, LIBRARY), game_in(made_disc, LIBRARY)
    assert desktop_profile is not None
    assert disc_profile is not None
    assert (desktop_profile.game, disc_profile.game) == ("skerry-post-desktop", "skerry-post-disc")
    north = edition_in(made_disc, disc_profile, LIBRARY)
    southern = disc.generate(tmp_path, "south", screens=3, members=24, film=2)
    south = edition_in(southern, disc_profile, LIBRARY)
    assert north is not None
    assert south is not None
    assert (north.edition, south.edition) == ("north", "south")
    (tmp_path / "empty").mkdir()
    assert game_in(tmp_path / "empty", LIBRARY) is None
    # A damaged disc is no game, and no error either.
    (southern / "skerry.bin").write_bytes(b"\0" * 5000)
    assert game_in(southern, LIBRARY) is None


def test_halves_that_are_missing_are_named() -> None:
    profile = profiles_in(LIBRARY.folders)[0]["skerry-post-desktop"]
    assert missing_halves(profile, ["data/a.kist", "data/a.hold", "data/b.hold"]) == [
        "data/b.hold has no b.kist beside it"
    ]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (PROFILE + "ways: [{way: loose, folder: ../out}]", "no path inside"),
        (PROFILE + "ways: [{way: loose, folder: /out}]", "no path inside"),
        (PROFILE + "ways: [{way: add-on, file: a.kist, like: b.kist}]", "needs {number}"),
        (PROFILE + "ways: [{way: add-on, file: 'a{other}.kist', like: b.kist}]", "something else than"),
        (PROFILE + "ways: [{way: archive}, {way: archive}]", "once"),
        (PROFILE + "ways: [{way: sail}]", "way"),
        (PROFILE + "strangers: refused\nways: [{way: loose, folder: x}]", "takes no loose files"),
        ("game: x\ntitle: y\n", "signs"),
    ],
)
def test_a_faulty_profile_is_an_error_with_a_line(text: str, words: str) -> None:
    with pytest.raises(LayoutError, match=words) as found:
        parse_as(GameProfile, text, "x.game.yaml")
    assert found.value.line is not None


@given(st.binary(max_size=300), st.sampled_from(["top", "bottom", "sorted"]))
def test_any_settings_are_changed_or_a_clear_error(text: bytes, place: str) -> None:
    try:
        made = register(text, rule(place=place, section=None), ["new = 1"])
    except BraeError as error:
        assert len(str(error)) > 10
    else:
        assert b"new = 1" in made or b"new=1" in text.lower().replace(b" ", b"")
