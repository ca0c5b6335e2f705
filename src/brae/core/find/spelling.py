"""Names of nothing put right: the existing names most like them, spelt as the text spells its names."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass

from brae.core.errors import FormatError
from brae.core.find.links import Names
from brae.core.find.mentions import Mention

_SEPARATORS = re.compile(r"[\\/]+")


@dataclass(frozen=True)
class Wrong:
    """A name of nothing in a text: where it stands, and existing names most like it, spelt like it."""

    text: str
    line: int
    instead: tuple[str, ...]


def wrong_names(
    mentions: Iterable[Mention], before: Iterable[Mention], names: Names, item_names: Mapping[str, str],
    spell: Callable[[str], str] | None = None, most: int = 20,
) -> list[Wrong]:  # fmt: skip
    """The names of nothing among some that are not among those before, each once; ``most`` of them.

    ``item_names``: the name of each item by its address; ``spell``: how one is written, where rules say so.
    """
    old = {mention.text.lower() for mention in before}
    found: dict[str, Wrong] = {}
    for mention in mentions:
        if len(found) >= most:  # each is compared with every name of the game
            break
        key = mention.text
        if key.lower() in old or key in found or names.resolve(mention)[1] or not names.looks_like_one(mention):
            continue
        near = [(one, item_names[one]) for one in names.nearest(mention) if one in item_names]
        ruled = spell if mention.means else None
        instead: dict[str, None] = {}
        for address, name in near:
            with suppress(FormatError):  # what its rules cannot write is no remedy
                instead[ruled(name) if ruled else spelt_like(mention, address, name, names)] = None
        found[key] = Wrong(mention.text, mention.place, tuple(instead))
    return list(found.values())


def spelt_like(mention: Mention, address: str, name: str, names: Names) -> str:
    """An item's name as a text writes it that wrote ``mention``: with as many folders, slashes and ending alike."""
    for spelt in _spellings(mention.text, name):
        if address in names.resolve(Mention(spelt, mention.place, spelt, mention.whole))[1]:
            return spelt
    return name


def _spellings(text: str, name: str) -> Iterator[str]:
    slash = _SEPARATORS.search(text)
    slashes = slash[0] if slash is not None else "/"
    steps = [step for step in _SEPARATORS.split(name) if step]
    deep = len([step for step in _SEPARATORS.split(text) if step])
    base = _SEPARATORS.split(text)[-1]
    ending = base[base.rindex(".") :] if "." in base else ""
    stem, dot, own = steps[-1].rpartition(".")
    first = slash[0] if slash is not None and slash.start() == 0 else ""
    near = tuple(steps[:-1][-(deep - 1) :]) if deep > 1 else ()
    for folders in dict.fromkeys((near, tuple(steps[:-1]))):
        for last in dict.fromkeys(((stem if dot else own) + ending, steps[-1])):
            yield first + slashes.join([*folders, last])
