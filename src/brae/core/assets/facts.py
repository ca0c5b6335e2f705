"""Facts: what a kind says of its items, declared once; columns, facets, search terms and lines follow from it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cache
from typing import Literal

from pydantic import BaseModel, ConfigDict

#: what a fact's value can be
Value = int | float | str


@dataclass(frozen=True)
class Fact:
    """How a fact is called and written, and what can be done with it. Stands in the annotation of a field."""

    label: str
    #: written behind the value: "pixels", "Hz", "s"
    unit: str = ""
    #: "capitals" for names such as BC7
    case: Literal["as-is", "capitals"] = "as-is"
    #: words for single values; where the words are empty, the line is left out
    words: Mapping[str, str] = field(default_factory=dict)
    #: the catalogue can be narrowed by it
    facet: bool = False
    #: the catalogue can be ordered by it: from the smallest, or from the largest
    order: Literal["", "up", "down"] = ""
    #: another fact that it is ordered by: dimensions by the number of pixels
    order_by: str = ""
    #: whether the detail has a line for it
    line: bool = True


class Facts(BaseModel):
    """What is known of an item of one kind. Every field is a number or a text, or None where it is not known."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    def stated(self) -> dict[str, Value]:
        """The facts that are known."""
        return {name: value for name, value in self if value is not None}


def written(fact: Fact, value: Value | None) -> str:
    """A fact's value as a person reads it; "" where there is nothing to say, or no line for it."""
    if value is None or not fact.line:
        return ""
    text = fact.words.get(str(value))
    if text is not None:
        return text
    text = f"{value:,}" if isinstance(value, int) and fact.unit else str(value)
    text = text.upper() if fact.case == "capitals" else text
    return f"{text} {fact.unit}" if fact.unit else text


@cache
def declared(model: type[Facts]) -> dict[str, Fact]:
    """The facts of a model by their names; TypeError where a field is none."""
    found: dict[str, Fact] = {}
    for name, info in model.model_fields.items():
        fact = next((one for one in info.metadata if isinstance(one, Fact)), None)
        if fact is None:
            raise TypeError(f"{model.__name__}.{name} has no Fact in its annotation")
        found[name] = fact
    return found


@cache
def is_number(model: type[Facts], name: str) -> bool:
    """Whether a fact is a number."""
    return str not in _types(model.model_fields[name].annotation)


def _types(annotation: object) -> tuple[object, ...]:
    return getattr(annotation, "__args__", (annotation,))
