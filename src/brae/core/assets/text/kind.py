"""The kind of texts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from difflib import SequenceMatcher
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BaseModel, Field

from brae.core.assets.base import (
    AssetKind,
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
from brae.core.assets.text import matching
from brae.core.assets.text.text import ENCODINGS, LINE_ENDS, MARKS, Text, encoding_of, read
from brae.core.errors import FormatError
from brae.core.layouts.library import Library

#: longer texts are shown in part
_LONGEST = 1 << 20
_MOST_ROWS = 5000
_LARGEST = 64 << 20


class TextFacts(Facts):
    """The facts of a text."""

    encoding: Annotated[str | None, Fact("Encoding", words=ENCODINGS, facet=True, order="up")] = None
    ends: Annotated[str | None, Fact("Line ends")] = None


class TextRecipe(BaseModel):
    """How a text is stored."""

    encoding: str
    marked: bool
    ends: str
    size: int


class TextQuery(Query):
    """What can be asked of a text's preview."""

    which: Literal["original", "edit"] = "original"
    most: Annotated[int, Field(ge=1, le=_LONGEST)] = _LONGEST


class Row(BaseModel):
    """One line of a comparison: numbers count from 1, None where the line is not there."""

    same: bool
    before: int | None
    original: str
    after: int | None
    edit: str


class Rows(BaseModel):
    """Two texts side by side; ``cut``: there are more lines than are shown."""

    rows: list[Row]
    cut: bool


def _rows(viewed: Viewed[Text], query: object, around: object) -> Rows:
    before = [line for line, _ in viewed.original.lines]
    after = [line for line, _ in (viewed.edit or viewed.original).lines]
    rows: list[Row] = []
    for what, a, b, c, d in SequenceMatcher(None, before, after, autojunk=False).get_opcodes():
        for step in range(max(b - a, d - c)):
            old, new = (a + step if a + step < b else None), (c + step if c + step < d else None)
            rows.append(
                Row(
                    same=what == "equal",
                    before=None if old is None else old + 1,
                    original="" if old is None else before[old],
                    after=None if new is None else new + 1,
                    edit="" if new is None else after[new],
                )
            )
        if len(rows) > _MOST_ROWS:
            break
    return Rows(rows=rows[:_MOST_ROWS], cut=len(rows) > _MOST_ROWS)


class TextKind(AssetKind[Text]):
    """Texts: UTF-8, UTF-16 with a byte order mark, Windows-1252."""

    id = "text"
    title, titles = "Text", "Texts"
    rank = 30
    sure = False
    facts = TextFacts
    exchange = (Exchange(".txt", "text/plain"),)
    remedies: ClassVar[Mapping[str, str]] = matching.REMEDIES
    query = TextQuery
    preview_media = "text"
    worded = True
    questions: ClassVar[Mapping[str, Question]] = {"rows": Question(NoWords, Rows, _rows)}

    def sniff(self, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
        return [self._sniff(head) for head in heads]

    def _sniff(self, head: Head) -> Sniffed | None:
        found = encoding_of(head.data, whole=head.size is not None and head.size <= len(head.data))
        if found is None:
            return None
        encoding, marked = found
        body = head.data[len(MARKS[encoding]) :] if marked else head.data
        text = Text(body.decode(encoding, "ignore"), encoding, marked)
        return Sniffed("text", {"encoding": encoding, "ends": LINE_ENDS[text.line_end]})

    def read(self, data: bytes, context: Context) -> Text:
        return read(data)

    def words(self, asset: Text) -> str:
        return asset.text

    def renamed(self, original: Text, file: ExchangeFile, instead: Mapping[str, str]) -> ExchangeFile:
        came = self.came(original, file)
        return ExchangeFile(file.name, came.renamed(instead).encode(lenient=True))

    def came(self, original: Text, file: ExchangeFile) -> Text:
        return read(file.data, original) if file.data else Text("", original.encoding, original.marked)

    def rebuild(self, asset: Text) -> bytes | None:
        return asset.encode()

    def weight(self, asset: Text) -> int:
        return 4 * len(asset.text)

    def check_large(self, head: bytes, tail: bytes, size: int, name: str) -> None:
        if size > _LARGEST:
            raise FormatError(
                f"A text of {size:,} bytes is too large to be edited.", expected=f"at most {_LARGEST:,}"
            )

    def preview(self, viewed: Viewed[Text], query: TextQuery) -> Preview:
        text = viewed.edit if query.which == "edit" and viewed.edit is not None else viewed.original
        return Preview(text.text[: query.most].encode(errors="replace"), "text/plain; charset=utf-8")

    def recipe(self, asset: Text) -> TextRecipe:
        size = len(asset.encode())
        return TextRecipe(encoding=asset.encoding, marked=asset.marked, ends=asset.end_words, size=size)

    def send(self, asset: Text) -> ExchangeFile:
        return ExchangeFile("text.txt", asset.encode())

    def check_file(self, file: ExchangeFile) -> None:
        if file.data:
            try:
                read(file.data)
            except FormatError as error:
                raise error.at(file.name) from None

    def match(self, original: Text, version: Version, recipe: Mapping[str, Any]) -> tuple[MatchSheet, Encoded]:
        came = self.came(original, version.file)
        sheet, data = matching.match(original, came, version.remedies)
        return sheet, Encoded(data)

    def again(self, original: Text, encoded: Encoded) -> Text:
        return read(encoded.data, original) if encoded.data else Text("", original.encoding, original.marked)


KIND = TextKind()
