"""Layouts from YAML text, with errors that name the line."""

from __future__ import annotations

from pathlib import Path
from typing import Any, TypeVar

import yaml
from pydantic import BaseModel, ValidationError

from brae.core.errors import LayoutError, storage_error
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


Checked = TypeVar("Checked", bound=BaseModel)


def parse(text: str, where: str = "layout") -> Layout:
    """Read a layout from YAML text; LayoutError with the line where it is not valid."""
    return parse_as(Layout, text, where)


def parse_as(model: type[Checked], text: str, where: str) -> Checked:
    """Read a layout or a game profile; LayoutError with the line where it is not valid."""
    if len(text) > LARGEST:
        raise LayoutError(f"A layout may have {LARGEST} characters at most.", address=where)
    lines: dict[Path_, int] = {}
    try:
        node, loader = _composed(text)
        if not isinstance(node, yaml.MappingNode):
            raise LayoutError("There is no layout in this text.", expected="'layout: NAME' and its parts", line=1)
        return model.model_validate(_construct(node, loader, (), lines))
    except LayoutError as error:
        raise error.at(where) from None
    except ValidationError as error:
        first = error.errors()[0]
        path: Path_ = tuple(step for step in first["loc"])
        if path[:1] == ("parts",) and len(path) > 2:
            path = path[:2] + path[3:]  # without the kind of the part, which Pydantic puts there
        # It also names the choices of a union; only steps of the text have lines.
        known: Path_ = ()
        for step in path:
            if (*known, step) in lines:
                known = (*known, step)
        named = path if first["type"] in ("missing", "extra_forbidden") else known
        words = ".".join(str(step) for step in named if not isinstance(step, int))
        message = first["msg"].removeprefix("Value error, ")
        raise LayoutError(
            f"{words}: {message}." if words else f"{message}.", address=where, line=lines[known]
        ) from None
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


def load(path: Path) -> Layout:
    """Read a layout from a file."""
    return load_as(Layout, path)


def load_as(model: type[Checked], path: Path) -> Checked:
    """Read a layout or a game profile from a file."""
    try:
        if path.stat().st_size > LARGEST:
            raise LayoutError(f"A layout may have {LARGEST} bytes at most.", address=path.name)
        text = path.read_text(encoding="utf-8")
    except UnicodeDecodeError as error:
        raise LayoutError("This is not UTF-8 text.", address=path.name, offset=error.start) from error
    except OSError as error:
        raise storage_error(error, "read", path) from error
    return parse_as(model, text, path.name)
