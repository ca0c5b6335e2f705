"""Bytes that are looked for stand where Python's own search says, in packed members as well."""

from __future__ import annotations

import re
import struct
import time
import zipfile
from pathlib import Path

import numpy as np
import pytest

from brae.core.errors import FormatError, WaitingError
from brae.work import Workspace
from brae.work.columns import Search
from brae.work.holding import asked, holding, places_in
from brae.work.opening import open_game
from brae.work.telling import told

SIGN, NUMBER = b"\xa7SIGN\x00\x01", 0x01020304
TWICE = b"one" + SIGN + b"two" + SIGN + bytes(40)


@pytest.fixture
def project(workspace: Workspace, tmp_path: Path) -> str:
    """An archive with packed members: a sign twice, a number in both byte orders, and a text."""
    folder = tmp_path / "bytes"
    folder.mkdir()
    with zipfile.ZipFile(folder / "a.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("twice.bin", TWICE)
        archive.writestr("little.bin", bytes(99) + struct.pack("<I", NUMBER))
        archive.writestr("big.bin", struct.pack(">I", NUMBER) + bytes(99))
        archive.writestr("read.txt", "RIFF is a sign, too\n")
    return str(open_game(workspace, folder)["project"])


@pytest.mark.parametrize(
    ("text", "names"),
    [
        ("a7 53 49 ?? 4e", {"twice.bin"}),
        ("SIGN", {"twice.bin"}),
        (f"u32:{NUMBER}", {"little.bin", "big.bin"}),
        ("is a sign", {"read.txt"}),
        ("00 00 00 00 00", {"twice.bin", "little.bin", "big.bin"}),
        ("ff ee dd cc", set()),
    ],
)
def test_items_are_found_by_what_stands_in_them(
    workspace: Workspace, project: str, text: str, names: set[str]
) -> None:
    wanted = {f"a.zip//{name}" for name in names}
    assert holding(workspace, project, text) == wanted
    held = workspace.catalogues.of(project)
    until = time.monotonic() + 20
    while True:
        try:
            fits = held.fitting(Search(f'holds:"{text}"'), told=told(workspace, project))
            break
        except WaitingError:
            assert time.monotonic() < until
            time.sleep(0.05)
    assert {held.addresses[place] for place in np.flatnonzero(fits).tolist()} == wanted


def test_each_place_is_told_with_what_lies_around(workspace: Workspace, project: str) -> None:
    found = places_in(workspace, project, "a.zip//twice.bin", SIGN.hex(" "))
    starts = [match.start() for match in re.finditer(re.escape(SIGN), TWICE)]
    assert [place.offset for place in found.places] == starts == [3, 13]
    assert (found.total, found.more) == (2, False)
    for place in found.places:
        around = bytes.fromhex(place.before + place.found + place.after)
        start = max(0, place.offset - 16)
        assert around == TWICE[start : start + len(around)]
        assert bytes.fromhex(place.found) == SIGN
    # One over another counts as well: forty zeros have nine and thirty pairs.
    assert places_in(workspace, project, "a.zip//twice.bin", "00 00").total == 39


def test_a_pattern_that_is_none_is_told(workspace: Workspace, project: str) -> None:
    for text in ("u32:boat", "u8:300"):
        with pytest.raises(FormatError):
            asked(text)
