"""Layouts given to others: what is in the file, what is tried, and that none of them can do harm."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest
import yaml
from hypothesis import given as examples
from hypothesis import strategies as st

from brae.core.containers.shared import Shared, as_test, read_shared, tried, write_shared
from brae.core.errors import BraeError, FormatError, LayoutError, LimitError
from brae.core.layouts.load import parse
from tests.core.families import BY_NAME, Family, members_for

FAMILY = BY_NAME["inline"]


def archive(folder: Path, family: Family = FAMILY, name: str = "pier.x", changed: bytes = b"") -> Path:
    members = members_for(family)
    if changed:
        members[2] = (members[2][0], changed)
    path = folder / name
    path.write_bytes(family.write(members)["main"])
    return path


def shared(folder: Path, family: Family = FAMILY, names: str = "") -> str:
    test = as_test(family.described, names.split(), archive(folder, family, "test.x"))
    return write_shared(
        Shared(shared=1, version="1.2", author="A. Keeper", licence="CC0-1.0", tested=[test], names=names,
               layout=family.layout)
    )  # fmt: skip


def test_it_is_proved_on_its_own_test_and_on_other_files(tmp_path: Path) -> None:
    given = read_shared(shared(tmp_path))
    assert (given.says.author, given.says.licence, given.layout.layout) == ("A. Keeper", "CC0-1.0", "cook-inline")
    same = tried(given, tmp_path / "test.x")
    assert (same.outcome, same.members, same.known, same.same) == ("proved", 9, True, True)
    other = tried(given, archive(tmp_path, changed=b"another tide"))
    assert (other.outcome, other.known) == ("proved", False)
    (tmp_path / "torn.x").write_bytes((tmp_path / "test.x").read_bytes()[:60])
    assert tried(given, tmp_path / "torn.x").outcome == "unreadable"


def test_the_description_comes_through_as_it_was_written(tmp_path: Path) -> None:
    text = "# what I know of it\n" + FAMILY.layout
    says = Shared(shared=1, layout=text, names="a/b.c\nd e.f\n")
    again = read_shared(write_shared(says))
    assert again.says == says
    assert again.known_names == ["a/b.c", "d e.f"]


@examples(st.text(alphabet=st.characters(codec="utf-8", exclude_categories=["Cs", "Cc"]), max_size=80))
def test_any_words_about_it_come_through(words: str) -> None:
    says = Shared(shared=1, layout=FAMILY.layout, about=words, author=words[:40])
    assert read_shared(write_shared(says)).says == says


def test_a_description_that_was_changed_behind_its_test_is_told(tmp_path: Path) -> None:
    """Names one record off prove as well; the test knows what the file lists."""
    content = yaml.safe_load(shared(tmp_path))
    content["layout"] = content["layout"].replace('slash: "\\\\"', 'slash: "e"')
    given = read_shared(yaml.safe_dump(content))
    trial = tried(given, tmp_path / "test.x")
    assert (trial.outcome, trial.known, trial.same) == ("beginning", True, False)
    assert "tested with this very file" in trial.words


def test_names_that_only_hashes_stand_for_go_with_it(tmp_path: Path) -> None:
    family = BY_NAME["hashed"]
    names = "\n".join(name for name, _ in members_for(family)) + "\n"
    given = read_shared(shared(tmp_path, family, names))
    assert tried(given, tmp_path / "test.x").same
    lost = replace(given, says=given.says.model_copy(update={"names": ""}))
    assert not tried(lost, tmp_path / "test.x").same


def test_a_file_that_is_not_proved_is_no_test(tmp_path: Path) -> None:
    path = archive(tmp_path)
    path.write_bytes(path.read_bytes()[:-20])
    with pytest.raises((FormatError, BraeError), match="is not proved"):
        as_test(FAMILY.described, [], path)


@pytest.mark.parametrize(
    ("text", "reason"),
    [
        ("layout: a\n", "no shared layout"),
        ("shared: 2\nlayout: x\n", "Input should be 1|shared"),
        ("shared: 1\nlayout: 'nothing'\n", "no layout in this text"),
        ("shared: 1\nversion: ../up\nlayout: x\n", "version"),
        ("shared: 1\nscript: rm\nlayout: x\n", "no key 'script'"),
        ("shared: 1\nlayout: !!python/object:os.system x\n", "YAML|text"),
    ],
)
def test_what_is_no_shared_layout_is_refused(text: str, reason: str) -> None:
    with pytest.raises((LayoutError, FormatError), match=reason):
        read_shared(text)


def test_too_large_a_file_is_refused() -> None:
    with pytest.raises(LimitError, match="16 MiB"):
        read_shared("shared: 1\nabout: " + "x" * (17 << 20))


HEAD = "layout: a\ntitle: A\nkind: archive\n"
PARTS = "parts:\n  - {members: data, size: 3}\n"


@pytest.mark.parametrize(
    "line",
    [
        'files: {data: "../{stem}.bin"}', 'files: {data: "/etc/passwd"}', 'files: {data: "C:\\\\x.bin"}',
        'files: {data: "a/../../b"}', 'files: {data: {name: "../{stem}.{number:03}"}}', 'files: {data: "..\\\\x"}',
        'files: {data: "{stem:>99999999}"}', 'files: {data: "{stem.__class__}"}', 'files: {data: "{stem!r:9999}"}',
        'files: {data: {name: "{number:099999999}"}}', 'stem: "{a}{b}{c}{d}"',
    ],
)  # fmt: skip
def test_no_pattern_of_a_name_leads_elsewhere_or_grows(line: str) -> None:
    """A layout of a stranger names files beside the one it describes, in bounded time and memory."""
    with pytest.raises(LayoutError):
        parse(HEAD + line + "\n" + PARTS)


def test_patterns_below_the_folder_are_fine() -> None:
    layout = parse(HEAD + 'files: {data: "data/{stem}.bin"}\n' + PARTS)
    assert layout.files["data"] == "data/{stem}.bin"
