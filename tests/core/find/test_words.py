"""What people type to find items; expressions against Python's own ``re``, likeness against its definition."""

from __future__ import annotations

import fnmatch
import re
import time

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from brae.core.errors import FormatError, LimitError
from brae.core.find.words import (
    MOST_WORDS,
    Condition,
    Paths,
    compiled,
    conditions,
    near,
    numbers_of,
    parts_of,
)

NAMES = {"width", "kind", "bytes"}


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("boat sail", [Condition("boat"), Condition("sail")]),
        ('"old harbour" -sketch', [Condition("old harbour"), Condition("sketch", without=True)]),
        ("kind:texture", [Condition("texture", name="kind", sign="=")]),
        ("-Width:>=512", [Condition("512", without=True, name="width", sign=">=")]),
        ("width!=8", [Condition("8", name="width", sign="!=")]),
        ('kind="a b"', [Condition("a b", name="kind", sign="=")]),
        ("other:thing", [Condition("other:thing", unknown="other")]),
        ("CARGO.VOL//MENUS", [Condition("CARGO.VOL//MENUS")]),
        ("/ui/", [Condition("/ui/")]),
        ("/ui", [Condition("/ui")]),
        (r"/a\/b[/x]$/", [Condition(r"a\/b[/x]$", expression=True)]),
        ("- a", [Condition("-"), Condition("a")]),
        ("", []),
    ],
)
def test_words_are_read_as_conditions(text: str, wanted: list[Condition]) -> None:
    assert conditions(text, NAMES) == wanted


@given(st.text(max_size=80))
def test_any_text_is_a_search_or_a_clear_error(text: str) -> None:
    try:
        found = conditions(text, NAMES)
    except FormatError as error:
        assert "regular expression" in error.message
    else:
        assert all(one.text for one in found)


def test_too_many_words_are_refused() -> None:
    with pytest.raises(LimitError):
        conditions("a " * (MOST_WORDS + 1), NAMES)
    with pytest.raises(LimitError):
        conditions("a" * 2000, NAMES)


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("width>=512", (">=", (512.0,))),
        ("bytes:>1.5M", (">", (1.5 * 1024 * 1024,))),
        ("bytes<2kb", ("<", (2048.0,))),
        ("width:8..64", ("..", (8.0, 64.0))),
        ("bytes=1,024", ("=", (1024.0,))),
    ],
)
def test_numbers_of_conditions(text: str, wanted: object) -> None:
    assert numbers_of(conditions(text, NAMES)[0]) == wanted


PATHS = st.lists(st.text("ab/.0", max_size=8), max_size=12)


@given(PATHS, st.sampled_from([r"a+b", r"^a", r"b$", r"[^a]b", r"\.", r"(a|b)/\d", r"a.b", r"\s", r"x*"]))
def test_an_expression_fits_as_python_has_it(paths: list[str], expression: str) -> None:
    """Each path by itself, although they are searched as one text."""
    wanted = [re.search(expression, path) is not None for path in paths]
    assert Paths(paths).fitting(expression).tolist() == wanted


ATOMS = st.sampled_from(
    [
        "a", "b", "k", "A", "/", "s", ".", r"\.", r"\d", r"\S", r"\w", "^", "$", r"\b", r"\B", r"\<", "é", "É",
        r"\x41", "[^a]", "[]a]", "[a-k]", "[A-b]", "[@-_]", "[+-/]", "[-a]", "[a||b]", "[a&&b]", "[[a]]", r"[\w.]",
        "(?=a)", "(?!b)", "(?i:A)", r"\x6b",
    ]
)  # fmt: skip
REPEATS = ["*", "+", "?", "+?", "*+", "{2}", "{1,2}", "{2,}", "{,2}", r"\1"]
EXPRESSIONS = st.recursive(
    ATOMS,
    lambda inner: st.one_of(
        st.builds("{}{}".format, inner, inner),
        st.builds("(?:{}|{})".format, inner, inner),
        st.builds(
            "({}){}".format,
            inner,
            st.sampled_from(["*", "+", "?", "+?", "*+", "{2}", "{1,2}", "{2,}", "{,2}", r"\1"]),
        ),
    ),
    max_leaves=6,
)


@settings(max_examples=400)
@given(st.lists(st.text("abks/.0é\n<", max_size=8), max_size=6), EXPRESSIONS)
def test_both_engines_read_an_expression_as_one(paths: list[str], expression: str) -> None:
    """As the package ``regex`` has it, which is the one that says whether it is an expression at all."""
    try:
        pattern = compiled(expression)
    except FormatError:
        with pytest.raises(FormatError):
            Paths(paths).fitting(expression)
        return
    wanted = [pattern.search(path.replace("\n", " ")) is not None for path in paths]
    assert Paths(paths).fitting(expression).tolist() == wanted


def test_names_that_are_no_text_are_searched_all_the_same() -> None:
    """A lone surrogate stands for a byte that is no UTF-8, as Python reads the names of files (PEP 383)."""
    paths = Paths(["a\udcffb", "b"])
    assert paths.with_word("b").tolist() == [True, True]
    assert paths.with_word("a\udcffb").tolist() == [True, False]
    assert paths.fitting("^a.b$").tolist() == [True, False]


ENDLESS = r"(.*x.*x.*)+(.*z.*)*y\d$"


def test_an_expression_that_would_take_years_is_answered() -> None:
    """(x+x+)+y on many x: the textbook case of backtracking without end (Friedl, Mastering Regular Expressions)."""
    started = time.monotonic()
    assert not Paths(["x" * 2000] * 50).fitting(ENDLESS).any()
    assert time.monotonic() - started < 30


def test_an_expression_that_would_take_years_and_looks_around_is_ended() -> None:
    """The same where only an engine that goes back can tell."""
    started = time.monotonic()
    with pytest.raises(LimitError, match="takes too long"):
        Paths(["x" * 2000] * 50).fitting("(?=x)" + ENDLESS)
    assert time.monotonic() - started < 30


@given(st.lists(st.text("abc*?", max_size=6), max_size=8), st.text("abc", min_size=1, max_size=3))
def test_plain_words_are_parts(texts: list[str], word: str) -> None:
    assert Paths(texts).with_word(word).tolist() == [word in text for text in texts]


@given(PATHS, st.text("ab*?", min_size=1, max_size=4))
def test_wildcards_fit_as_fnmatch_has_it(paths: list[str], word: str) -> None:
    """Python's own ``fnmatch``, anywhere in the text."""
    wanted = [fnmatch.fnmatchcase(path, f"*{word}*") for path in paths]
    assert Paths(paths).with_word(word).tolist() == wanted


def test_wildcards() -> None:
    assert Paths(["boat", "bt", "tub"]).with_word("b*t").tolist() == [True, True, False]
    assert Paths(["boat", "bat", "bt"]).with_word("b?t").tolist() == [False, True, False]
    for word in ("a?", "*", "?"):
        assert Paths([]).with_word(word).tolist() == []
    assert Paths(["", "a"]).with_word("*").tolist() == [True, True]


def test_near_words_are_those_a_slip_away() -> None:
    known = parts_of(["ui/lighthouse.ptx", "harbour/boat_sail_02", "harbor"])
    assert known == ["boat", "harbor", "harbour", "lighthouse", "ptx", "sail"]
    for slip in ("lighthose", "lihgthouse", "lightthouse", "LIGHTHOUSE"):
        assert near(slip, known) == ["lighthouse"]
    assert near("harbuor", known) == ["harbor", "harbour"]  # as near as each other
    assert near("gull", known) == []
    assert near("si", known) == []  # too short to be told
