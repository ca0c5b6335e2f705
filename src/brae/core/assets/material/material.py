"""A material: its values by what they are for, and the same with one of them changed, every other byte kept."""

from __future__ import annotations

import re
import struct
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal, get_args

import numpy as np

from brae.core.assets.material.entries import Entry, entries, line_of
from brae.core.assets.text import text as texts
from brae.core.assets.text.text import Text
from brae.core.errors import FormatError
from brae.core.layouts.fields import FieldPart
from brae.core.layouts.materials import ColourRole, MaterialPart, TextureRole
from brae.core.layouts.model import Layout
from brae.core.layouts.read import Parsed, parse
from brae.core.layouts.write import Model, compose
from brae.core.sources import MAIN, BytesSource

Sort = Literal["shader", "texture", "colour", "number", "switch"]
_TRUE, _FALSE = ("1", "true", "yes", "on"), ("0", "false", "no", "off")
_FLOATS = {"f16": "e", "f32": "f", "f64": "d"}
_NUMBERS = re.compile(r"-?\d*\.?\d+(?:[eE][+-]?\d+)?")


@dataclass(frozen=True)
class MaterialValue:
    """A value of a material: what it is for, its key, and what is written; None where it is not there."""

    sort: Sort
    role: str
    key: str
    value: str | None
    #: its line in a text, counted from 1
    line: int | None = None
    #: the range of a number
    least: float | None = None
    most: float | None = None


@dataclass(frozen=True)
class Material:
    """A material by its layout: a text, or the fields of a header."""

    layout: Layout
    part: MaterialPart
    text: Text | None = None
    parsed: Parsed | None = None
    entries: tuple[Entry, ...] = field(default=())

    def at(self, key: str) -> Entry | None:
        """The value that a key leads to; of several the last one, as readers of such texts have it."""
        return next((one for one in reversed(self.entries) if one.is_at(key)), None)

    def values(self) -> list[MaterialValue]:
        """All that the layout says of it, shader first."""
        part = self.part
        asked: list[tuple[Sort, str, str, float | None, float | None]] = []
        if part.shader is not None:
            asked.append(("shader", "shader", part.shader, None, None))
        asked += [("texture", role, key, None, None) for role, key in _ordered(part.textures)]
        colours = {role: key if isinstance(key, str) else "+".join(key) for role, key in part.colours.items()}
        asked += [("colour", role, key, None, None) for role, key in _ordered(colours)]
        asked += [("number", role, one.key, one.least, one.most) for role, one in part.numbers.items()]
        asked += [("switch", role, key, None, None) for role, key in part.switches.items()]
        found = []
        for sort, role, key, least, most in asked:
            told = [self.at(each) for each in part.joined.get(key, [key])]
            there = [one for one in told if one is not None]
            value = " ".join(one.value for one in there) if len(there) == len(told) else None
            line = line_of(self.text.text, there[0].start) if there and self.text is not None else None
            found.append(MaterialValue(sort, role, key, value, line, least, most))
        return found

    def textures(self) -> dict[str, str]:
        """The paths of its textures by what those are for."""
        return {one.role: one.value for one in self.values() if one.sort == "texture" and one.value}

    def encode(self) -> bytes:
        """Its bytes."""
        if self.text is not None:
            return self.text.encode(lenient=True)
        assert self.parsed is not None
        return b"".join(compose(self.parsed).read(MAIN))

    def with_value(self, key: str, value: str) -> Material:
        """The same with another value; FormatError where there is no such key, or where it cannot be written."""
        if (keys := self.part.joined.get(key)) is not None:
            return self._with_colour(keys, value)
        one = self.at(key)
        if one is None:
            return self._added(key, value)
        if self.text is not None:
            text = self.text.text
            return _of_text(
                self.layout,
                self.part,
                replace(self.text, text=text[: one.start] + one.write(value) + text[one.end :]),
            )
        assert self.parsed is not None
        raw = _field_bytes(self.layout, self.parsed, key, value)
        return read(self.layout, b"".join(compose(self.parsed, model=Model({}, {key: raw})).read(MAIN)))

    def _with_colour(self, keys: Sequence[str], value: str) -> Material:
        """The same with a colour whose numbers are said one by one; a fourth that is not given stays."""
        numbers = numbers_in(value)
        if len(numbers) not in (3, len(keys)):
            raise FormatError(f"'{value}' is no colour of {len(keys)} numbers.", expected="three numbers, or four")
        found = self
        for key, number in zip(keys, numbers, strict=False):
            one = self.at(key)
            # What stays is not written anew: in a text its digits are its own.
            if one is None or numbers_in(one.value) != [number]:
                found = found.with_value(key, str(number).removesuffix(".0"))
        return found

    def _added(self, key: str, value: str) -> Material:
        """The same with a value more, written as the value before it is."""
        form = self.part.text
        if self.text is None or form is None or form.form != "lines" or not self.entries:
            raise FormatError(f"There is no '{key}' in this material, and none can be added here.")
        last = self.entries[-1]
        lines = self.text.lines
        number = line_of(self.text.text, last.start) - 1
        line, end = lines[number]
        name = key.rpartition(".")[2]
        new = line.replace(last.path[-1], name, 1)
        at = new.rfind(last.value)
        new = new[:at] + last.write(value) + new[at + len(last.value) :] if at >= 0 else f"{name} {value}"
        ends = self.text.line_end or "\n"
        lines[number : number + 1] = [(line, end or ends), (new, end)]
        return _of_text(self.layout, self.part, self.text.of_lines(lines))


def _ordered(roles: Mapping[Any, str]) -> list[tuple[str, str]]:
    """Roles and keys, in the order in which the roles are listed."""
    order = [*get_args(TextureRole), *get_args(ColourRole)]
    return sorted(roles.items(), key=lambda one: order.index(one[0]))


def read(layout: Layout, data: bytes, like: Text | None = None) -> Material:
    """A material by its layout. Raises FormatError where it is none."""
    part: MaterialPart = layout.only(MaterialPart)
    if part.text is not None:
        return _of_text(layout, part, texts.read(data, like) if data else Text("", "utf-8"))
    parsed = parse(layout, {MAIN: BytesSource(data)})
    found = []
    for one in layout.parts:
        if isinstance(one, FieldPart) and one.field in set(part.keys()):
            found.append(Entry((one.field,), _shown(one, parsed), 0, 0, str))
    return Material(layout, part, None, parsed, tuple(found))


def _of_text(layout: Layout, part: MaterialPart, text: Text) -> Material:
    assert part.text is not None
    return Material(layout, part, text, None, tuple(entries(text.text, part.text)))


def _shown(one: FieldPart, parsed: Parsed) -> str:
    """A field of a header as a text."""
    raw = parsed.texts[one.field]
    if one.number_like:
        return str(parsed.values[one.field])
    if one.type in _FLOATS:
        order = "<" if one.order(parsed.layout.endian) == "little" else ">"
        # As short as tells it apart from every other number of this width.
        said = str(np.frombuffer(raw, f"{order}f{int(one.type[1:]) // 8}")[0])
        return said.removesuffix(".0")
    skipped = int(one.prefix[1:]) // 8 if one.prefix is not None else 0
    return raw[skipped:].split(b"\0")[0].decode("utf-8", "replace")


def _field_bytes(layout: Layout, parsed: Parsed, key: str, value: str) -> bytes:
    """The bytes of a header field that says ``value``."""
    one = next(part for part in layout.parts if isinstance(part, FieldPart) and part.field == key)
    old, order = parsed.texts[key], one.order(layout.endian)
    try:
        if one.type in _FLOATS:
            return struct.pack(("<" if order == "little" else ">") + _FLOATS[one.type], float(value))
        if one.number_like:
            return int(number_of(value)).to_bytes(one.width or len(old), order, signed=one.type[0] == "i")
    except (ValueError, OverflowError, struct.error):
        raise FormatError(f"'{value}' cannot be written as {one.type} in '{key}'.") from None
    raw = value.encode()
    if one.end == "nul":
        raw += b"\0"
    if one.prefix is not None:
        width = int(one.prefix[1:]) // 8
        if len(raw) >= 1 << (8 * width):
            raise FormatError(
                f"'{value}' is too long for '{key}'.", expected=f"fewer than {1 << (8 * width)} bytes"
            )
        return len(raw).to_bytes(width, order) + raw
    if one.end != "nul" and len(raw) > len(old):
        raise FormatError(f"'{value}' is too long for '{key}'.", expected=f"at most {len(old)} bytes")
    return raw if one.end == "nul" else raw.ljust(len(old), b"\0")


def number_of(value: str) -> float:
    """A value as a number; switches are 0 and 1. ValueError where it is none."""
    low = value.strip().lower()
    if low in _TRUE or low in _FALSE:
        return float(low in _TRUE)
    return float(low)


def numbers_in(value: str) -> list[float]:
    """The numbers of a colour: three or four, divided by anything; or #rrggbb, of 0 to 255."""
    if re.fullmatch(r"#[0-9a-fA-F]{6}([0-9a-fA-F]{2})?", value.strip()):
        return [float(one) for one in bytes.fromhex(value.strip()[1:])]
    return [float(one) for one in _NUMBERS.findall(value)]
