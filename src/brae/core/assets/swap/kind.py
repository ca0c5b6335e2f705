"""The kind of swap lists."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BaseModel, Field, TypeAdapter, ValidationError

from brae.core.assets import recognised
from brae.core.assets.base import (
    Around,
    AssetKind,
    Change,
    Context,
    Encoded,
    Exchange,
    ExchangeFile,
    Head,
    NoWords,
    Preview,
    Query,
    Question,
    Sniffed,
    Version,
    Viewed,
)
from brae.core.assets.facts import Fact, Facts
from brae.core.assets.sheet import MatchSheet
from brae.core.assets.swap import matching
from brae.core.assets.swap.swaps import Swap, SwapList, from_csv, read, to_csv
from brae.core.assets.text.text import encoding_of
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.library import Library
from brae.core.layouts.swaps import SwapsPart

_LARGEST = 16 << 20


class SwapFacts(Facts):
    """The facts of a swap list."""

    swaps: Annotated[int | None, Fact("Swaps", order="down")] = None


class SwapRecipe(BaseModel):
    """How a swap list is stored."""

    layout: str
    size: int


class SwapQuery(Query):
    """What can be asked of a swap list's preview."""

    which: Literal["original", "edit"] = "original"
    most: Annotated[int, Field(ge=1, le=_LARGEST)] = _LARGEST


class SwapRow(BaseModel):
    """One swap, and the items that its names mean."""

    object: str
    old: str
    new: str
    object_item: str | None
    old_item: str
    new_item: str
    #: whether the original has it too
    same: bool


class SwapView(BaseModel):
    """The swaps of the version in use, and how names are said."""

    swaps: list[SwapRow]
    #: whether a swap can be of one object only
    objects: bool
    #: the items that names mean, with {name}
    item_pattern: str
    object_pattern: str


class SetSwaps(BaseModel):
    """All swaps anew: the body is a list of objects with ``object``, ``old`` and ``new``."""

    done: Annotated[str, Field(max_length=200)] = ""


_ROWS = TypeAdapter(list[dict[Literal["object", "old", "new"], str]])


def _view(viewed: Viewed[SwapList], query: NoWords, around: Around) -> SwapView:
    shown = viewed.edit or viewed.original
    part, before = shown.part, set(viewed.original.swaps)
    return SwapView(
        swaps=[
            SwapRow(
                object=one.object, old=one.old, new=one.new, same=one in before,
                object_item=part.item(part.objects, one.object) if one.object else None,
                old_item=part.item(part.items, one.old), new_item=part.item(part.items, one.new),
            )
            for one in shown.swaps
        ],
        objects=shown.has_objects, item_pattern=part.items, object_pattern=part.objects,
    )  # fmt: skip


def _set(viewed: Viewed[SwapList], query: SetSwaps, file: ExchangeFile | None) -> tuple[ExchangeFile, str]:
    try:
        rows = _ROWS.validate_json(file.data if file is not None else b"")
    except ValidationError as error:
        raise FormatError(f"These are no swaps: {error.errors()[0]['msg']}.") from None
    swaps = [Swap(row.get("object", ""), row.get("old", ""), row.get("new", "")) for row in rows]
    viewed.original.rewrite(swaps)  # for its error, where one cannot be stored
    return ExchangeFile("swaps.csv", to_csv(swaps)), query.done or "swaps"


class SwapKind(AssetKind[SwapList]):
    """Lists of what stands in for what, described by a layout."""

    id = "swap"
    title, titles = "Swap list", "Swap lists"
    rank = 24
    facts = SwapFacts
    exchange = (Exchange(".csv", "text/csv"),)
    query = SwapQuery
    preview_media = "text"
    worded = True
    questions: ClassVar[Mapping[str, Question]] = {"swaps": Question(NoWords, SwapView, _view)}
    changes: ClassVar[Mapping[str, Change]] = {"set": Change(SetSwaps, _set)}

    def sniff(self, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
        found: list[Sniffed | None] = list(recognised.sniff(self.id, heads, library, lambda layout, parsed: {}))
        for place, one in enumerate(found):
            if one is None or one.type is None:
                continue
            head = heads[place]
            layout = library.layouts[one.type]
            whole = head.size is not None and head.size == len(head.data)
            part: SwapsPart = layout.only(SwapsPart)
            if part.line is not None and encoding_of(head.data, whole=whole) is None:
                found[place] = None  # it is only called like one
            elif whole:
                with suppress(BraeError):  # told when it is looked at
                    found[place] = Sniffed(one.type, {"swaps": len(read(layout, head.data).swaps)})
        return found

    def read(self, data: bytes, context: Context) -> SwapList:
        return read(recognised.layout_of(self.id, self.title, data, context), data)

    def rebuild(self, asset: SwapList) -> bytes | None:
        return asset.rewrite(asset.swaps)

    def check_large(self, head: bytes, tail: bytes, size: int, name: str) -> None:
        if size > _LARGEST:
            raise FormatError(f"{size:,} bytes are no swap list.", expected=f"at most {_LARGEST:,}")

    def words(self, asset: SwapList) -> str:
        return "".join(f"{one.object or 'everywhere'}: {one.old} → {one.new}\n" for one in asset.swaps)

    def pointed(self, asset: SwapList) -> list[tuple[str, str, int]]:
        part, found = asset.part, []
        for line, one in enumerate(asset.swaps, 1):
            found += [(name, part.item(part.items, name), line) for name in (one.old, one.new)]
            if one.object:
                found.append((one.object, part.item(part.objects, one.object), line))
        return found

    def spelt(self, asset: SwapList, name: str) -> str:
        part = asset.part
        said = part.said(part.items, name) or part.said(part.objects, name)
        if said is None:
            raise FormatError(f"'{name}' cannot be said in this list.", expected=part.items)
        return said

    def came(self, original: SwapList, file: ExchangeFile) -> SwapList:
        return read(original.layout, original.rewrite(from_csv(file.data)))

    def renamed(self, original: SwapList, file: ExchangeFile, instead: Mapping[str, str]) -> ExchangeFile:
        swaps = [
            Swap(*(instead.get(value, value) for value in (one.object, one.old, one.new)))
            for one in from_csv(file.data)
        ]
        return ExchangeFile(file.name, to_csv(swaps))

    def preview(self, viewed: Viewed[SwapList], query: SwapQuery) -> Preview:
        shown = viewed.edit if query.which == "edit" and viewed.edit is not None else viewed.original
        return Preview(self.words(shown)[: query.most].encode(errors="replace"), "text/plain; charset=utf-8")

    def recipe(self, asset: SwapList) -> SwapRecipe:
        return SwapRecipe(layout=asset.layout.layout, size=len(asset.data))

    def send(self, asset: SwapList) -> ExchangeFile:
        return ExchangeFile("swaps.csv", to_csv(asset.swaps))

    def saved(self, asset: SwapList, suffix: str) -> bytes:
        if suffix == ".json":
            rows = [{"object": one.object, "old": one.old, "new": one.new} for one in asset.swaps]
            return json.dumps(rows, ensure_ascii=False, indent=1).encode()
        return super().saved(asset, suffix)

    def check_file(self, file: ExchangeFile) -> None:
        from_csv(file.data)

    def match(self, original: SwapList, version: Version, recipe: Mapping[str, Any]) -> tuple[MatchSheet, Encoded]:
        came = self.came(original, version.file)
        return matching.match(original, came), Encoded(came.data)

    def again(self, original: SwapList, encoded: Encoded) -> SwapList:
        return read(original.layout, encoded.data)


KIND = SwapKind()
