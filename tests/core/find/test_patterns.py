"""Bytes found by patterns; every hit is checked against a search of every place by hand."""

from __future__ import annotations

import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brae.core.errors import FormatError
from brae.core.find import patterns
from brae.core.find.patterns import pattern_of, places
from brae.core.sources import BytesSource


def found(data: bytes, text: str) -> list[int]:
    return [offset for offset, _ in places(BytesSource(data), pattern_of(text))]


@given(
    st.binary(max_size=200).map(lambda data: bytes(byte & 3 for byte in data)),
    st.lists(st.sampled_from(["00", "01", "02", "0?", "?1", "??"]), min_size=1, max_size=4),
)
def test_every_place_and_no_other_is_found(data: bytes, steps: list[str]) -> None:
    if set(steps) == {"??"}:
        with pytest.raises(FormatError):
            pattern_of(" ".join(steps))
        return

    def fits(offset: int) -> bool:
        here = data[offset : offset + len(steps)].hex()
        return len(here) == 2 * len(steps) and all(a in ("?", b) for a, b in zip("".join(steps), here, strict=True))

    assert found(data, " ".join(steps)) == [offset for offset in range(len(data)) if fits(offset)]


@given(st.integers(-(2**31), 2**31 - 1))
def test_numbers_are_found_in_either_order(number: int) -> None:
    data = b"\x7f" + struct.pack("<i", number) + b"\x7f" + struct.pack(">i", number)
    assert {1, 6} <= set(found(data, f"i32:{number}"))


def test_texts_are_found_with_what_would_be_a_pattern_elsewhere() -> None:
    assert found(b"a.b axb a.b", '"a.b"') == [0, 8]
    assert found("Öl".encode() * 2, '"Öl"') == [0, 3]
    assert found(b"1234" + struct.pack("<f", 0.5), "f32:0.5") == [4]
    assert found(b"RIFF....", "52494646") == found(b"RIFF....", "0x52 0x49, 46 46") == [0]


def test_a_hit_across_two_windows_is_found_once(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(patterns, "_WINDOW", 16)
    data = b"." * 14 + b"KELP" + b"." * 14 + b"KELP"
    assert found(data, '"KELP"') == [14, 32]
    assert found(b"a" * 40, '"aa"') == list(range(39))


@pytest.mark.parametrize(
    "text", ["", "5", "5G", "?? ??", '""', '"', "u8:256", "u32:-1", "i32:abc", "u33:1", "f32:"]
)
def test_what_is_no_pattern_is_refused_with_what_would_be(text: str) -> None:
    with pytest.raises(FormatError):
        pattern_of(text)
    with pytest.raises(FormatError):
        pattern_of('"' + "x" * 5000 + '"')
