"""Small sums over a layout's fields: ``count * 24 + 16``. Whole numbers only, bounded in size and depth.

What a field ``is`` may also ask about parts: ``end(names) - start(list)``, ``count(list)``, ``size(data)``.
"""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable, Mapping
from difflib import get_close_matches
from functools import lru_cache
from typing import Any

import numpy as np

from brae.core.errors import LayoutError

Ints = np.ndarray[Any, np.dtype[np.int64]]
_LONGEST = 200
_BOUND = 1 << 64
_OPERATORS: dict[type[ast.operator], Callable[[int, int], int]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.FloorDiv: operator.floordiv,
    ast.Mod: operator.mod,
    ast.BitAnd: operator.and_,
    ast.BitOr: operator.or_,
    ast.RShift: operator.rshift,
}


#: what can be asked about a part of a layout, or (``file_size``) about one of its files
FUNCTIONS = {
    "count": "the number of a table's records",
    "folders": "how many folders a tree has at its top",
    "size": "the bytes of a part",
    "real_size": "the unpacked bytes of all members",
    "offset": "where a part begins",
    "start": "where a part begins",
    "end": "where a part ends",
    "file_size": "the bytes of a file",
}
#: a question: the function, and the part
Call = tuple[str, str]
_ASKED = ", ".join(f"{name}(PART)" for name in FUNCTIONS)
_WORDS = "whole numbers, field names, + - * // % & | >> and brackets"


@lru_cache(maxsize=1024)
def _parse(text: str) -> ast.expr:
    if len(text) > _LONGEST:
        raise LayoutError(f"An expression may have {_LONGEST} characters at most.")
    try:
        tree = ast.parse(text, mode="eval").body
    except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
        raise LayoutError(f"'{text}' is not an expression.", expected="such as 'count * 24 + 16'") from error
    for node in ast.walk(tree):
        if isinstance(node, ast.BinOp):
            known = type(node.op) in _OPERATORS
        elif isinstance(node, ast.Constant):
            known = type(node.value) is int
        elif isinstance(node, ast.Call):
            known = isinstance(node.func, ast.Name) and node.func.id in FUNCTIONS and not node.keywords
            known = known and len(node.args) == 1 and isinstance(node.args[0], ast.Name)
        elif isinstance(node, ast.Attribute):
            known = isinstance(node.value, ast.Name)
        else:
            known = isinstance(node, ast.Name | ast.Load | ast.operator)
        if not known:
            called = node.func.id if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) else None
            if called is not None and called not in FUNCTIONS:
                meant = get_close_matches(called, FUNCTIONS, 1)
                hint = f"; did you mean '{meant[0]}'?" if meant else "."
                raise LayoutError(f"'{text}' asks for '{called}', which is not known{hint}", expected=_ASKED)
            raise LayoutError(f"'{text}' uses something an expression may not.", expected=_WORDS)
    return tree


def calls(expression: int | str) -> list[Call]:
    """What an expression asks about parts, in order."""
    if isinstance(expression, int):
        return []
    return [
        (node.func.id, node.args[0].id)
        for node in ast.walk(_parse(expression))
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and isinstance(node.args[0], ast.Name)
    ]


def only_call(expression: int | str) -> Call | None:
    """The one question that an expression is, if it is nothing else."""
    if isinstance(expression, int) or not isinstance(_parse(expression), ast.Call):
        return None
    return calls(expression)[0]


def field_names(expression: int | str) -> set[str]:
    """The fields that an expression reads; LayoutError where it is not valid.

    One of a record that another field points to is named with that: ``folder.start``.
    """
    if isinstance(expression, int):
        return set()
    tree = _parse(expression)
    nodes = list(ast.walk(tree))
    asked = {id(part) for node in nodes if isinstance(node, ast.Call) for part in (node.func, *node.args)}
    asked |= {id(node.value) for node in nodes if isinstance(node, ast.Attribute)}
    plain = {node.id for node in nodes if isinstance(node, ast.Name) and id(node) not in asked}
    return plain | {_dotted(node) for node in nodes if isinstance(node, ast.Attribute)}


def _dotted(node: ast.Attribute) -> str:
    assert isinstance(node.value, ast.Name)
    return f"{node.value.id}.{node.attr}"


def straight(expression: int | str, field: str, values: Mapping[str, int]) -> tuple[int, int] | None:
    """``a`` and ``b`` where an expression is ``a * field + b``; None where it is anything else of that field."""
    points = [evaluate(expression, {**values, field: number}) for number in (0, 1, 2, 3, 1000)]
    step = points[1] - points[0]
    if step < 1 or any(points[0] + step * number != points[k] for k, number in enumerate((0, 1, 2, 3, 1000))):
        return None
    return step, points[0]


def evaluate(expression: int | str, values: Mapping[str, int], ask: Callable[[str, str], int] | None = None) -> int:
    """The value of an expression over ``values``; LayoutError where it cannot be worked out.

    ``ask`` answers questions about parts.
    """
    if isinstance(expression, int):
        return expression

    def value(node: ast.expr) -> int:
        if isinstance(node, ast.Constant):
            return int(node.value)  # type: ignore[arg-type]  # _parse lets only whole numbers through
        if isinstance(node, ast.Name | ast.Attribute):
            name = node.id if isinstance(node, ast.Name) else _dotted(node)
            if name not in values:
                raise LayoutError(f"'{expression}' reads '{name}', which is not known at that place.")
            return values[name]
        if isinstance(node, ast.Call):
            if ask is None:
                raise LayoutError(f"'{expression}' asks about a part, which only what a field 'is' may do.")
            return ask(*only_call(ast.unparse(node)))  # type: ignore[misc]
        assert isinstance(node, ast.BinOp)
        try:
            result = _OPERATORS[type(node.op)](value(node.left), value(node.right))
        except (ZeroDivisionError, ValueError, OverflowError) as error:
            raise LayoutError(f"'{expression}' cannot be worked out: {error}.") from error
        if abs(result) >= _BOUND:
            raise LayoutError(f"'{expression}' is beyond 64 bits.")
        return result

    return value(_parse(expression))


def evaluate_columns(expression: int | str, columns: Mapping[str, Ints], length: int) -> Ints:
    """The same for many records at once: whole numbers of 64 bits, one a record.

    LayoutError where a divisor is zero, or where a column is not known.
    """
    if isinstance(expression, int):
        return np.full(length, expression, np.int64)

    def value(node: ast.expr) -> Ints:
        if isinstance(node, ast.Constant):
            return np.full(length, int(node.value), np.int64)  # type: ignore[arg-type]
        if isinstance(node, ast.Name | ast.Attribute):
            name = node.id if isinstance(node, ast.Name) else _dotted(node)
            if name not in columns:
                known = ", ".join(sorted(columns))
                raise LayoutError(f"'{expression}' reads '{name}', which no record has.", expected=known)
            return columns[name]
        if isinstance(node, ast.Call):
            raise LayoutError(f"'{expression}' asks about a part, which only what a header's field 'is' may do.")
        assert isinstance(node, ast.BinOp)
        left, right = value(node.left), value(node.right)
        if isinstance(node.op, ast.FloorDiv | ast.Mod) and not right.all():
            raise LayoutError(f"'{expression}' divides by zero.")
        result: Ints = _OPERATORS[type(node.op)](left, right)  # type: ignore[arg-type, assignment]
        return result

    return value(_parse(expression))
