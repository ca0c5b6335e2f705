"""Small sums over a layout's fields: ``count * 24 + 16``. Whole numbers only, bounded in size and depth."""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable, Mapping
from functools import lru_cache

from brae.core.errors import LayoutError

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
        else:
            known = isinstance(node, ast.Name | ast.Load | ast.operator)
        if not known:
            raise LayoutError(
                f"'{text}' uses something an expression may not.",
                expected="whole numbers, field names, + - * // % & | >> and brackets",
            )
    return tree


def field_names(expression: int | str) -> set[str]:
    """The fields that an expression reads; LayoutError where it is not valid."""
    if isinstance(expression, int):
        return set()
    return {node.id for node in ast.walk(_parse(expression)) if isinstance(node, ast.Name)}


def evaluate(expression: int | str, values: Mapping[str, int]) -> int:
    """The value of an expression over ``values``; LayoutError where it cannot be worked out."""
    if isinstance(expression, int):
        return expression

    def value(node: ast.expr) -> int:
        if isinstance(node, ast.Constant):
            return int(node.value)  # type: ignore[arg-type]  # _parse lets only whole numbers through
        if isinstance(node, ast.Name):
            if node.id not in values:
                raise LayoutError(f"'{expression}' reads '{node.id}', which is not known at that place.")
            return values[node.id]
        assert isinstance(node, ast.BinOp)
        try:
            result = _OPERATORS[type(node.op)](value(node.left), value(node.right))
        except (ZeroDivisionError, ValueError, OverflowError) as error:
            raise LayoutError(f"'{expression}' cannot be worked out: {error}.") from error
        if abs(result) >= _BOUND:
            raise LayoutError(f"'{expression}' is beyond 64 bits.")
        return result

    return value(_parse(expression))
