"""Whether a layout says of items only what their kinds know."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from pydantic import BaseModel, TypeAdapter, ValidationError

from brae.core.assets.registry import kinds
from brae.core.layouts.faults import in_words
from brae.core.layouts.fields import near
from brae.core.layouts.frames import FramesPart
from brae.core.layouts.load import Path_
from brae.core.layouts.model import Layout
from brae.core.layouts.parts import ChunksPart, MembersPart
from brae.core.layouts.pixels import PixelsPart
from brae.core.layouts.records import Fact, Said

#: where it stands in the layout, what is wrong, what is known instead
Wrong = tuple[Path_, str, str | None]


def check(layout: Layout) -> Iterator[Wrong]:
    """All that a layout says and that a kind's own schema refuses."""
    for number, part in enumerate(layout.parts):
        place: Path_ = ("parts", number)
        if isinstance(part, PixelsPart):
            # Pixels are a texture's, also under the frames of a sprite and the rectangles of a screen.
            yield from _facts(layout, place, part, ["texture"])
        elif isinstance(part, FramesPart) and "format" in part.facts:
            for word in _words(layout, part, part.facts["format"]):
                fault = _fault(kinds()["texture"].layout_facts, "format", word)
                if fault is not None:
                    yield (*place, "facts", "format"), f"'format' cannot be so: {fault[0].rstrip('.')}.", fault[1]
        elif isinstance(part, MembersPart | ChunksPart) and part.kind is not None:
            named = [word for word in _words(layout, part, part.kind) if word]
            for word in named:
                if word not in kinds():
                    wrong = f"There is no kind '{word}'{near(str(word), kinds()) or '.'}"
                    yield (*place, "kind"), wrong, ", ".join(kinds())
            yield from _facts(layout, place, part, [str(word) for word in named])


def _words(
    layout: Layout, part: MembersPart | ChunksPart | PixelsPart | FramesPart, fact: Fact
) -> Sequence[object]:
    """What a fact can be, as far as the layout says it by words; nothing where any number is."""
    source = layout.source(fact) if isinstance(part, PixelsPart | FramesPart) else layout.member_source(part, fact)
    if source is None:
        return [fact.is_ if isinstance(fact, Said) else fact]
    otherwise = [fact.otherwise] if isinstance(fact, Said) and fact.otherwise not in (None, "") else []
    return [*(source[1] or {}).values(), *otherwise]


def _facts(
    layout: Layout, place: Path_, part: MembersPart | ChunksPart | PixelsPart, named: Sequence[str]
) -> Iterator[Wrong]:
    known = [kinds()[kind].layout_facts for kind in named if kind in kinds()]
    if not known:
        return
    names = {name for schema in known for name in schema.model_fields} - {"kind"}
    for name, fact in part.facts.items():
        where = (*place, "facts", name)
        if name not in names:
            wrong = f"'{name}' is nothing of a {' or a '.join(dict.fromkeys(named))}{near(name, names) or '.'}"
            yield where, wrong, ", ".join(sorted(names))
            continue
        for word in _words(layout, part, fact):
            faults = [_fault(schema, name, word) for schema in known if name in schema.model_fields]
            if all(fault is not None for fault in faults) and faults[0] is not None:
                yield where, f"'{name}' cannot be so: {faults[0][0].rstrip('.')}.", faults[0][1]
    if len(known) == 1:
        for name, field in known[0].model_fields.items():
            if field.is_required() and name not in part.facts:
                yield place, f"'facts' of '{part.name}' do not say the {named[0]}'s {name}.", None


def _fault(schema: type[BaseModel], name: str, word: object) -> tuple[str, str | None] | None:
    """What a kind's schema has against a word."""
    if word is None or word == "":
        return None
    try:
        TypeAdapter(schema.model_fields[name].rebuild_annotation()).validate_python(word)
    except ValidationError as error:
        return in_words(error.errors()[0])
    return None
