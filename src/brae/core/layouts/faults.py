"""What a model's check found, in plain words."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from brae.core.layouts.fields import near

_WANTED = {
    "int_parsing": "a whole number", "int_type": "a whole number", "int_from_float": "a whole number",
    "string_type": "a text", "bool_parsing": "true or false", "bool_type": "true or false",
    "list_type": "a list", "dict_type": "a set of keys and values", "model_type": "a set of keys and values",
    "model_attributes_type": "a set of keys and values", "float_parsing": "a number", "float_type": "a number",
}  # fmt: skip


def in_words(fault: Mapping[str, Any]) -> tuple[str, str | None]:
    """What is wrong with a value, by one of Pydantic's error details, and what is known instead."""
    kind, given, context = fault["type"], fault.get("input"), fault.get("ctx", {})
    if kind in ("literal_error", "enum"):
        expected = str(context.get("expected", "")).replace(" or ", ", ").replace("'", "")
        return f"'{given}' is not known here{near(str(given), expected.split(', '))}", expected
    if kind in _WANTED:
        return f"{_WANTED[kind]} is wanted, not {given!r}", None
    if kind == "string_pattern_mismatch":
        return f"'{given}' has letters that are not allowed here", f"the form {context.get('pattern')}"
    if kind in ("greater_than_equal", "less_than_equal"):
        limit = context.get("ge", context.get("le"))
        return f"{given} is too {'small' if 'ge' in context else 'large'}; the limit is {limit}", None
    return str(fault["msg"]).removeprefix("Value error, "), None
