"""Keys and values of a text with their places, so that one value is changed and every other byte stays.

Three forms: a key and a value on a line (in [sections] and { braces }), JSON (RFC 8259) and XML (its attributes and
what stands in its elements).
"""

from __future__ import annotations

import html
import json
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from brae.core.errors import FormatError, LimitError
from brae.core.layouts.materials import TextForm

#: entries of one text, groups within each other
_MOST, _DEEPEST = 20_000, 64
_KEY = re.compile(r'"(?P<quoted>[^"\n]*)"|(?P<plain>[^\s"={}:]+)')
_NUMBER = re.compile(r"-?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][+-]?\d+)?")
_STRING = re.compile(r'"(?:[^"\\]|\\.)*"')
_TAG = re.compile(
    r"<!--.*?-->|<\?.*?\?>|<!\[CDATA\[.*?\]\]>|<!.*?>|"
    r"<(?P<close>/?)(?P<name>[\w:.-]+)(?P<attributes>(?:\s+[\w:.-]+\s*=\s*(?:\"[^\"]*\"|'[^']*'))*)\s*(?P<empty>/?)>",
    re.DOTALL,
)
_PAIRS = (("<!--", "-->"), ("<?", "?>"), ("<![CDATA[", "]]>"), ("<", ">"))
_ATTRIBUTE = re.compile(r"([\w:.-]+)\s*=\s*(\"([^\"]*)\"|'([^']*)')")


@dataclass(frozen=True)
class Entry:
    """A value: the keys that lead to it, what it is, and where it is written (``start`` to ``end`` of the text)."""

    path: tuple[str, ...]
    value: str
    start: int
    end: int
    #: how a value is written in its place
    write: Callable[[str], str]

    def is_at(self, key: str) -> bool:
        """Whether a key such as ``stage.map`` leads to it; what stands above may be left out, letter case too."""
        return f".{'.'.join(self.path)}".lower().endswith(f".{key.lower()}")


def entries(text: str, form: TextForm) -> list[Entry]:
    """All values of a text, in their order. FormatError where it is not of that form."""
    found: list[Entry] = []
    reader = {"lines": _lines, "json": _json, "xml": _xml}[form.form]
    for one in reader(text, form):
        found.append(one)
        if len(found) > _MOST:
            raise LimitError(f"More than {_MOST:,} values are no material.")
    return found


def line_of(text: str, place: int) -> int:
    """The line of a place, counted from 1."""
    return text.count("\n", 0, place) + 1


# ---- a key and a value on a line ----------------------------------------------------------------------------


def _lines(text: str, form: TextForm) -> Iterator[Entry]:
    groups: list[str] = []
    section: list[str] = []
    before, at = "", 0
    for line in text.splitlines(keepends=True):
        start, at = at, at + len(line)
        body = line[: _comment(line, form.comments)]
        start += len(body) - len(body.lstrip())
        body = body.strip()
        if not body:
            continue
        if body.startswith("[") and body.endswith("]"):
            section, groups, before = [body[1:-1].strip()], [], ""
        elif body == "{":
            groups.append(before)
            before = ""
        elif set(body) <= set("};, "):
            del groups[max(0, len(groups) - body.count("}")) :]
            before = ""
        elif body.endswith("{"):
            groups.append(_plain(body[:-1], form))
        else:
            found = _pair(body, start, form, (*section, *groups))
            before = _plain(body, form) if found is None else ""
            if found is not None:
                yield found
        if len(groups) > _DEEPEST:
            raise LimitError(f"More than {_DEEPEST} groups within each other are no material.")


def _plain(text: str, form: TextForm) -> str:
    text = text.strip()
    for sign in form.between:
        text = text.removesuffix(sign).strip()
    return text.strip('"')


def _comment(line: str, comments: Sequence[str]) -> int:
    """Where a comment begins in a line, else its end; within quotes none does."""
    quoted = False
    for place, char in enumerate(line):
        if char == '"':
            quoted = not quoted
        elif not quoted and any(line.startswith(one, place) for one in comments):
            return place
    return len(line.rstrip("\r\n"))


def _pair(body: str, start: int, form: TextForm, groups: tuple[str, ...]) -> Entry | None:
    signs = "|".join(re.escape(sign) for sign in sorted(form.between, key=len, reverse=True))
    sign = re.compile(rf"\s*(?:{signs})\s*|\s+" if signs else r"\s+")
    key = _KEY.match(body)
    between = sign.match(body, key.end()) if key is not None else None
    if key is None or between is None or between.end() >= len(body):
        return None
    name = key["quoted"] if key["quoted"] is not None else key["plain"]
    here, value = between.end(), body[between.end() :]
    quoted = re.match(r'"([^"]*)"\s*[,;]?$', value)
    if quoted is not None:
        return Entry(
            (*groups, name), quoted[1], start + here + quoted.start(1), start + here + quoted.end(1), _in_quotes
        )
    value = value.rstrip(" \t,;")
    return Entry((*groups, name), value, start + here, start + here + len(value), _bare)


def _in_quotes(value: str) -> str:
    if '"' in value or "\n" in value:
        raise FormatError("A quoted value can have neither quotes nor line ends in it.")
    return value


def _bare(value: str) -> str:
    if "\n" in value or not value.strip():
        raise FormatError("A value is on one line, and is not empty.")
    return value


# ---- JSON ---------------------------------------------------------------------------------------------------


def _json(text: str, form: TextForm) -> Iterator[Entry]:
    try:
        json.loads(text.removeprefix("\ufeff"))
    except (ValueError, RecursionError) as error:
        raise FormatError(f"This is no JSON: {error}.") from None
    yield from _json_value(text, _space(text, text.startswith("\ufeff")), (), [])


def _space(text: str, at: int) -> int:
    while at < len(text) and text[at] in " \t\r\n":
        at += 1
    return at


def _json_value(text: str, at: int, path: tuple[str, ...], end: list[int]) -> Iterator[Entry]:
    """The values in the value at ``at``; where it ends is put into ``end``. The text is known to be JSON."""
    if len(path) > _DEEPEST:
        raise LimitError(f"More than {_DEEPEST} groups within each other are no material.")
    if text[at] in "{[":
        yield from _json_group(text, at, path, end)
        return
    found = _STRING.match(text, at) or _NUMBER.match(text, at) or re.compile("true|false|null").match(text, at)
    assert found is not None
    end[:] = [found.end()]
    if text[at] == '"':
        yield Entry(path, json.loads(found[0]), at + 1, found.end() - 1, lambda value: json.dumps(value)[1:-1])
    else:
        yield Entry(path, found[0], at, found.end(), _literal)


def _json_group(text: str, at: int, path: tuple[str, ...], end: list[int]) -> Iterator[Entry]:
    named, close = text[at] == "{", "}" if text[at] == "{" else "]"
    numbers = re.compile(rf"\[\s*({_NUMBER.pattern}(?:\s*,\s*{_NUMBER.pattern})*)\s*\]").match(text, at)
    if not named and numbers is not None:  # a colour
        end[:] = [numbers.end()]
        yield Entry(path, numbers[1], numbers.start(1), numbers.end(1), _literal)
        return
    at, count = _space(text, at + 1), 0
    while text[at] != close:
        if named:
            key = _STRING.match(text, at)
            assert key is not None
            step, at = json.loads(key[0]), _space(text, _space(text, key.end()) + 1)
        else:
            step, count = str(count), count + 1
        yield from _json_value(text, at, (*path, step), end)
        at = _space(text, end[0])
        at = _space(text, at + 1) if text[at] == "," else at
    end[:] = [at + 1]


def _literal(value: str) -> str:
    try:
        json.loads(f"[{value}]")
    except ValueError:
        raise FormatError(f"'{value}' is no number, true or false.") from None
    return value


# ---- XML ----------------------------------------------------------------------------------------------------


def _xml(text: str, form: TextForm) -> Iterator[Entry]:
    path: list[str] = []
    last = 0
    for begins, ends in _PAIRS:  # or each of them would be looked for up to the end
        if text.rfind(begins) > text.rfind(ends):
            raise FormatError(f"{begins} is not ended.", offset=text.rfind(begins))
    for tag in _TAG.finditer(text):
        said = text[last : tag.start()]
        if path and said.strip() and "<" not in said:
            start = last + len(said) - len(said.lstrip())
            yield Entry(tuple(path), html.unescape(said.strip()), start, start + len(said.strip()), html.escape)
        last = tag.end()
        if tag["name"] is None:
            continue
        if tag["close"]:
            if not path or path[-1] != tag["name"]:
                raise FormatError(f"</{tag['name']}> ends nothing.", offset=tag.start())
            path.pop()
            continue
        path.append(tag["name"])
        for one in _ATTRIBUTE.finditer(tag["attributes"]):
            group = 3 if one[3] is not None else 4
            at = tag.start("attributes")
            yield Entry(
                (*path, one[1]), html.unescape(one[group]), at + one.start(group), at + one.end(group),
                lambda value: html.escape(value, quote=True),
            )  # fmt: skip
        if tag["empty"]:
            path.pop()
        if len(path) > _DEEPEST:
            raise LimitError(f"More than {_DEEPEST} elements within each other are no material.")
    if path:
        raise FormatError(f"<{path[-1]}> is not ended.")
