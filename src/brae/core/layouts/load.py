"""Layouts from YAML text, with errors that name the line."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import Any, TypeVar

import yaml
from pydantic import BaseModel, ValidationError

from brae.core.errors import LayoutError, storage_error
from brae.core.layouts.faults import in_words
from brae.core.layouts.fields import near
from brae.core.layouts.model import Layout

LARGEST = 1 << 20
_DEEPEST = 20
Path_ = tuple[str | int, ...]


#: libyaml's parser is ten times as fast; it is in every wheel of PyYAML
_Loader: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


def _composed(text: str) -> tuple[yaml.Node | None, Any]:
    """A text's nodes, and their loader. Without references: a short text must not unfold into a huge one."""
    for event in yaml.parse(text, Loader=_Loader):
        if isinstance(event, yaml.AliasEvent):
            raise LayoutError("A layout has no references (&, *).", line=event.start_mark.line + 1)  # type: ignore[union-attr]
    loader = _Loader(text)
    return loader.get_single_node(), loader


def _construct(node: yaml.Node, loader: Any, path: Path_, lines: dict[Path_, int]) -> Any:
    lines[path] = node.start_mark.line + 1
    if len(path) > _DEEPEST:
        raise LayoutError("The layout is nested too deeply.", line=lines[path])
    if isinstance(node, yaml.MappingNode):
        result = {}
        for key_node, value_node in node.value:
            key = loader.construct_object(key_node)
            if not isinstance(key, str | int):
                raise LayoutError(f"'{key}' is not a word.", line=key_node.start_mark.line + 1)
            if key in result:
                raise LayoutError(f"'{key}' stands here twice.", line=key_node.start_mark.line + 1)
            result[key] = _construct(value_node, loader, (*path, key), lines)
            lines[(*path, key)] = key_node.start_mark.line + 1
        return result
    if isinstance(node, yaml.SequenceNode):
        return [_construct(item, loader, (*path, index), lines) for index, item in enumerate(node.value)]
    return loader.construct_object(node)


#: keys whose value is what a part or a field is called
_NAMING = ("field", "bytes", "table", "tree", "chunks", "stream", "names", "members", "pixels")


def _words_of(content: Any, path: Path_, lines: dict[Path_, int]) -> Iterator[tuple[bool, str, int]]:
    """Every text in a layout with its line, and whether a part or a field is called by it."""
    if isinstance(content, dict):
        for key, value in content.items():
            if isinstance(value, str):
                yield key in _NAMING, value, lines[(*path, key)]
            yield from _words_of(value, (*path, key), lines)
    elif isinstance(content, list):
        for index, value in enumerate(content):
            if isinstance(value, str):
                yield False, value, lines[(*path, index)]
            yield from _words_of(value, (*path, index), lines)


class _Places:
    """Where in a text something stands that a message speaks of."""

    def __init__(self) -> None:
        self._named: dict[str, int] = {}
        self._said: dict[str, int] = {}

    def learn(self, content: Any, lines: dict[Path_, int]) -> None:
        for naming, word, line in _words_of(content, (), lines):
            (self._named if naming else self._said).setdefault(word, line)

    def line(self, message: str) -> int | None:
        """The line of the first thing in quotes that has a name, or else stands there as it is."""
        quoted = re.findall(r"'([^']+)'", message)
        for known in (self._named, self._said):
            for word in quoted:
                if word in known:
                    return known[word]
        return None


def _first_fault(
    model: type[BaseModel], error: ValidationError, lines: dict[Path_, int], places: _Places
) -> LayoutError:
    """The fault that stands first in the text, in words."""
    faults = []
    for order, fault in enumerate(error.errors()):
        path: Path_ = tuple(fault["loc"])
        if path[:1] == ("parts",) and len(path) > 2:
            path = path[:2] + path[3:]  # without the kind of the part, which Pydantic puts there
        # It also names the choices of a union; only steps of the text have lines.
        known: Path_ = ()
        for step in path:
            if (*known, step) in lines:
                known = (*known, step)
        # A misspelt key explains what is missing beside it.
        faults.append((lines[known], fault["type"] != "extra_forbidden", order, path, known, fault))
    line, _, _, path, known, fault = min(faults, key=lambda one: one[:3])
    message, expected = in_words(fault)
    words = ".".join(str(step) for step in known if not isinstance(step, int))
    name = str(path[-1]) if path else ""
    if fault["type"] == "extra_forbidden":
        # At the top it is known which keys there are; further in it may be any.
        may_be = list(model.model_fields) if len(path) == 1 else _keys(model)
        message = f"there is no key '{name}' here{near(name, [key for key in may_be if key != name])}"
        words = ".".join(str(step) for step in path[:-1] if not isinstance(step, int))
    elif fault["type"] == "missing":
        message = f"'{name}' is missing"
    elif fault["type"] == "value_error":
        # What speaks of a part or a field by its name stands where that is.
        own = places.line(message)
        if own is not None and (not known or line < own):
            line = own
    message = f"{words}: {message}" if words else message
    return LayoutError(message if message.endswith(("?", ".")) else f"{message}.", line=line, expected=expected)


@cache
def _keys(model: type[BaseModel]) -> list[str]:
    """Every key that a layout may have anywhere."""
    schema = model.model_json_schema(by_alias=True)
    parts = [schema, *schema.get("$defs", {}).values()]
    return sorted({key for part in parts for key in part.get("properties", {})})


Checked = TypeVar("Checked", bound=BaseModel)


#: what else is wrong with a layout: where that stands, what it is, what is known instead
Check = Callable[[Layout], Iterator[tuple[Path_, str, str | None]]]


def parse(text: str, where: str = "layout", check: Check | None = None) -> Layout:
    """Read a layout from YAML text; LayoutError with the line where it is not valid.

    ``check`` finds what this floor does not know: that a kind of item has no such fact.
    """
    return parse_as(Layout, text, where, check)


def parse_as(
    model: type[Checked],
    text: str,
    where: str,
    check: Callable[[Checked], Iterator[tuple[Path_, str, str | None]]] | None = None,
    longest: int = LARGEST,
) -> Checked:
    """Read a layout or a game profile; LayoutError with the line where it is not valid."""
    if len(text) > longest:
        raise LayoutError(f"A layout may have {longest} characters at most.", address=where)
    lines: dict[Path_, int] = {}
    places = _Places()
    try:
        node, loader = _composed(text)
        if not isinstance(node, yaml.MappingNode):
            raise LayoutError("There is no layout in this text.", expected="'layout: NAME' and its parts", line=1)
        content = _construct(node, loader, (), lines)
        places.learn(content, lines)
        found = model.model_validate(content)
        for path, words, expected in check(found) if check is not None else ():
            line = next((lines[path[:end]] for end in range(len(path), -1, -1) if path[:end] in lines), None)
            raise LayoutError(words, line=line, expected=expected)
        return found
    except LayoutError as error:
        error.line = error.line or places.line(error.message)
        raise error.at(where) from None
    except ValidationError as error:
        raise _first_fault(model, error, lines, places).at(where) from None
    except (yaml.YAMLError, RecursionError, ValueError) as error:
        mark = getattr(error, "problem_mark", None)
        problem = getattr(error, "problem", None) or str(error).splitlines()[0]
        raise LayoutError(
            f"This is not YAML: {problem}.", address=where, line=mark.line + 1 if mark else None
        ) from None


def lines_of_parts(text: str) -> list[int]:
    """The line (from 1) on which each part of a layout begins; nothing where the text is no layout."""
    lines: dict[Path_, int] = {}
    try:
        node, loader = _composed(text)
        if isinstance(node, yaml.MappingNode):
            _construct(node, loader, (), lines)
    except (LayoutError, yaml.YAMLError, RecursionError, ValueError):
        return []
    return [line for path, line in lines.items() if len(path) == 2 and path[0] == "parts"]


def load(path: Path, check: Check | None = None) -> Layout:
    """Read a layout from a file."""
    return load_as(Layout, path, check)


def load_as(
    model: type[Checked],
    path: Path,
    check: Callable[[Checked], Iterator[tuple[Path_, str, str | None]]] | None = None,
) -> Checked:
    """Read a layout or a game profile from a file."""
    try:
        if path.stat().st_size > LARGEST:
            raise LayoutError(f"A layout may have {LARGEST} bytes at most.", address=path.name)
        text = path.read_text(encoding="utf-8")
    except UnicodeDecodeError as error:
        raise LayoutError("This is not UTF-8 text.", address=path.name, offset=error.start) from error
    except OSError as error:
        raise storage_error(error, "read", path) from error
    return parse_as(model, text, path.name, check)
