"""What a kind is: the one interface over which the stages of the work list, show, edit and build items.

A kind is a folder in ``brae.core.assets`` with a module ``kind`` that has a ``KIND``, or an entry point of the
group ``brae.assets`` in any installed package. The stages know no kind by name. See docs/kinds.md.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Generic, Literal, NamedTuple, TypeVar

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from brae.core.assets.facts import Facts, Value
from brae.core.assets.sheet import Finding, MatchSheet
from brae.core.errors import FormatError, NotFoundError, UnknownFormatError
from brae.core.layouts.faults import in_words
from brae.core.layouts.fields import near
from brae.core.layouts.library import Library
from brae.core.layouts.model import Layout

Asset = TypeVar("Asset")
#: bytes that are enough to tell what a member is
HEAD = 512
#: the bytes of another item of the game by its name; NotFoundError where there is none
Fetch = Callable[[str], bytes]


def nowhere(name: str) -> bytes:
    """A fetch where there are no other items."""
    raise NotFoundError(f"The rest of it is in {name}, and only this file is known here.")


#: what a preview shows: the original, the file that came back, what is stored of it, or a view of the kind's own
Which = Literal["original", "edit"]


class Head(NamedTuple):
    """The beginning of one member (HEAD bytes at most), its name, and its whole size (None where nobody knows)."""

    data: bytes
    name: str
    size: int | None
    #: what its container says of it: its kind, and that kind's facts
    said: Mapping[str, Value] | None = None


@dataclass(frozen=True)
class Sniffed:
    """What the beginning of a member says of it."""

    #: the file type: an open format, or the identifier of a layout; None where it is damaged
    type: str | None
    facts: Mapping[str, Value] = field(default_factory=dict)
    #: names of other items of the game that hold the rest of it
    parts: tuple[str, ...] = ()
    #: what is wrong with it
    fault: str | None = None
    #: whether more of its bytes would tell what these do not
    short: bool = False


@dataclass(frozen=True)
class Context:
    """What reading an item may ask for."""

    library: Library
    name: str = ""
    fetch: Fetch = nowhere
    #: the layout that a person named; without it the one that fits
    layout: Layout | None = None
    #: what its container says of it
    said: Mapping[str, Value] | None = None


@dataclass(frozen=True)
class Exchange:
    """A file type that goes out to an editor and comes back, by its ending."""

    suffix: str
    media: str = "application/octet-stream"


@dataclass(frozen=True)
class ExchangeFile:
    """A file on its way to an editor, or back."""

    name: str
    data: bytes

    @property
    def suffix(self) -> str:
        """Its ending, in small letters, with the point."""
        stem, dot, end = self.name.rpartition("/")[2].rpartition(".")
        return f"{dot}{end}".lower() if stem and end else ""


@dataclass(frozen=True)
class Version:
    """What a person made of an item: a file, what was put right, how it is to be encoded, and files beside it."""

    file: ExchangeFile
    remedies: tuple[str, ...] = ()
    choices: Mapping[str, Any] = field(default_factory=dict)
    #: files that replace parts of it, by the kind's own names for those
    beside: Mapping[str, ExchangeFile] = field(default_factory=dict)
    #: other items with whose bytes it is read, by their names, as they will be in the game
    others: Mapping[str, bytes] = field(default_factory=dict)


@dataclass(frozen=True)
class Encoded:
    """New bytes of an item, and of the other items that hold the rest of it, by their names."""

    data: bytes
    elsewhere: Mapping[str, bytes] = field(default_factory=dict)
    #: other items with whose bytes it is read, as they will be; they are written by their own edits
    others: Mapping[str, bytes] = field(default_factory=dict)


def fetching(fetch: Fetch, others: Mapping[str, bytes]) -> Fetch:
    """A fetch that gives ``others`` for the items of those names."""
    return lambda name: others[name] if name in others else fetch(name)


@dataclass(frozen=True)
class Preview:
    """Something to look at or to listen to."""

    data: bytes
    media: str


@dataclass(frozen=True)
class Viewed(Generic[Asset]):
    """What a preview can be made from: the original and, where a file came back, the edit and its version."""

    original: Asset
    edit: Asset | None = None
    version: Version | None = None


@dataclass(frozen=True)
class Sibling:
    """Another item of the same kind in the same folder of the game (or the item itself)."""

    name: str
    address: str
    facts: Mapping[str, Value]
    #: whether it lies in the item's own archive, and whether the game uses it
    own: bool
    used: bool


@dataclass(frozen=True)
class Around:
    """What lies around an item: its name, its siblings, and the profile of its game."""

    name: str
    siblings: Callable[[], Sequence[Sibling]]
    profile: Any = None
    #: the addresses of all items of its kind in its folder, by the last part of their names
    places: Callable[[], Mapping[str, str]] = dict
    #: what a fact of those is, where it is a text, each with the item's address
    values: Callable[[str], Sequence[tuple[str, str]]] = lambda _: ()


@dataclass(frozen=True)
class Question:
    """Something that only this kind can be asked: the query, the answer, and what works it out.

    ``ask`` gets what is viewed (``Viewed``), the query and what lies around (``Around``).
    """

    query: type[BaseModel]
    answer: Any
    ask: Callable[[Any, Any, Around], Any]


@dataclass(frozen=True)
class Change:
    """A step that only this kind has: what was edited last becomes another file, and a few words say what it is.

    ``make`` gets what is viewed (``Viewed``), the query, and the file that was given with it, if any.
    """

    query: type[BaseModel]
    make: Callable[[Any, Any, ExchangeFile | None], tuple[ExchangeFile, str]]


@dataclass(frozen=True)
class Headless:
    """How a kind explains bytes that no header says anything of, and keeps an explanation as a layout."""

    #: the search for one, in words: "Look for a picture in it"
    words: str
    #: one explanation, as a person corrects it by hand
    explanation: type[BaseModel]
    #: what bytes could be, the best explanation first
    propose: Callable[[bytes], Sequence[Any]]
    #: the formats that a person may try by hand, those that are likelier first
    formats: Callable[[], Sequence[str]]
    #: something to look at or listen to; ``fit`` asks for sides up to that
    preview: Callable[[bytes, Any, int | None], Preview]
    #: an explanation as a layout's text, by identifier, title, name pattern and size (None: of any size);
    #: FormatError where the bytes could not be written again as they are
    layout: Callable[[bytes, Any, str, str, str, int | None], str]


class Query(BaseModel):
    """What can be asked of a preview; a kind adds its own."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    which: str = "original"

    @property
    def small(self) -> bool:
        """Whether it asks for a small picture of the original, which is kept for the next time."""
        return False


class NoWords(BaseModel):
    """A question without more words."""

    model_config = ConfigDict(extra="forbid")


class SaidKind(BaseModel):
    """What a layout can say of an item of a kind of which nothing more can be said; a kind has its own."""

    model_config = ConfigDict(extra="forbid")

    kind: str = ""


class NoChoices(BaseModel):
    """The choices of a kind that has none."""

    model_config = ConfigDict(extra="forbid")


class Details(BaseModel):
    """What the page of a kind needs to know of an edit beyond what all kinds have; a kind adds its own."""

    kind: str
    #: what the original's encoding was, and where the edit departs from it
    recipe: dict[str, Any] = Field(default_factory=dict)
    choices: dict[str, Any] = Field(default_factory=dict)


class AssetKind(ABC, Generic[Asset]):
    """One kind of item. What a kind does not have (an exchange, choices, a preview) it leaves as it is here."""

    #: its name in addresses, in the database and on the page
    id: ClassVar[str]
    #: as people call one, and several
    title: ClassVar[str]
    titles: ClassVar[str]
    #: whether its signs leave no doubt; else it is looked whether a member is an archive all the same
    sure: ClassVar[bool] = True
    #: its place among the kinds: in the catalogue, and in telling what a member is
    rank: ClassVar[int] = 50
    facts: ClassVar[type[Facts]] = Facts
    #: what a layout can say of one: facts that it can check when the layout is read
    layout_facts: ClassVar[type[BaseModel]] = SaidKind
    #: the file types that go out and come back, the usual one first; none where it is only looked at
    exchange: ClassVar[tuple[Exchange, ...]] = ()
    #: what puts an edit right, by identifier, in the order in which they are applied
    remedies: ClassVar[Mapping[Any, str]] = {}
    #: where an edit's encoding may depart from its original's
    choices: ClassVar[type[BaseModel]] = NoChoices
    #: what can be wished of a new one that is made of a file
    wishes: ClassVar[type[BaseModel]] = NoWords
    #: what the page may ask of its previews; what they are
    query: ClassVar[type[Query]] = Query
    preview_media: ClassVar[Literal["image", "audio", "text", "none"]] = "none"
    details: ClassVar[type[Details]] = Details
    questions: ClassVar[Mapping[str, Question]] = {}
    changes: ClassVar[Mapping[str, Change]] = {}
    #: what makes an item obvious in a trial, by identifier, in words
    marks: ClassVar[Mapping[Any, str]] = {}
    #: whether such an item can be found by a picture (``likeness``)
    pictured: ClassVar[bool] = False
    #: the findings that a change of colours leads to, when it is asked for
    colour_findings: ClassVar[frozenset[str]] = frozenset()
    #: whether an item has words that are searched, and in which others are named (``words``)
    worded: ClassVar[bool] = False
    #: whether it names others without having words (``pointed``)
    refers: ClassVar[bool] = False
    #: whether what it names can be wrong for it (``judged``)
    judges: ClassVar[bool] = False
    #: whether something can be wrong with it among its siblings (``among``)
    social: ClassVar[bool] = False
    #: whether a file of the game's own type is taken back as well
    own_files: ClassVar[bool] = False
    #: how it explains bytes without a header, where it can
    headless: ClassVar[Headless | None] = None

    # ---- telling ----------------------------------------------------------------------------------------

    def colourless(self, asset: Asset) -> str | None:
        """Why colour steps are no good for an item, in a few words; None where they are."""
        return None if self.pictured else "has no colours"

    @abstractmethod
    def sniff(self, heads: Sequence[Head], library: Library) -> Sequence[Sniffed | None]:
        """What many members are, by their beginnings; None for each that is not of this kind."""

    def told(self, head: Head, library: Library) -> Sniffed:
        """What a member is whose container says that it is of this kind (``head.said``).

        Without facts its own bytes have to tell the rest. Raises FormatError where they do not, or where nothing
        can be said of this kind.
        """
        if any(name != "kind" for name in head.said or ()):
            raise FormatError(f"The facts of {self.titles.lower()} cannot be said by a layout.")
        found = self.sniff([head], library)[0]
        if found is None:
            raise FormatError(f"The layout says that this is a {self.title.lower()}, and its bytes are none.")
        return found

    # ---- reading ----------------------------------------------------------------------------------------

    @abstractmethod
    def read(self, data: bytes, context: Context) -> Asset:
        """An item from its bytes, unpacked. Raises one of Brae's errors where they are no such thing."""

    def weight(self, asset: Asset) -> int:
        """Bytes that an item takes in memory, roughly."""
        return 1 << 20

    def rebuild(self, asset: Asset) -> bytes | None:
        """An item written again without a change, which proves that nothing is lost; None where it cannot be."""
        return None

    def check_large(self, head: bytes, tail: bytes, size: int, name: str) -> None:
        """Refuse a large file that only claims to be one, by its beginning and end, before all of it is read."""

    # ---- looking ----------------------------------------------------------------------------------------

    def preview(self, viewed: Viewed[Asset], query: Any) -> Preview:
        """Something to look at or listen to, as a query of the kind's own asks for it."""
        raise FormatError(f"There is no preview of {self.titles.lower()}.")

    def likeness(self, asset: Asset, side: int = 512) -> Any:
        """The picture by which an item is found: uint8 (height, width, 4), sides up to ``side``."""
        raise FormatError(f"There is no picture of {self.titles.lower()}.")

    def sets(self, members: Mapping[str, Mapping[str, Any]], profile: Any) -> Mapping[str, str]:
        """Which items of a folder belong together: of those that do, the name of their set.

        ``members``: names with facts; ``profile``: of the game, or None.
        """
        return {}

    def words(self, asset: Asset) -> str:
        """What an item says, as lines."""
        raise FormatError(f"There are no words in {self.titles.lower()}.")

    def came(self, original: Asset, file: ExchangeFile) -> Asset:
        """What a file that came back says, as an item of the original's sort; of those that have words."""
        raise self._not_edited()

    def renamed(self, original: Asset, file: ExchangeFile, instead: Mapping[str, str]) -> ExchangeFile:
        """A file that came back with other names of items in the place of some."""
        raise self._not_edited()

    def pointed(self, asset: Asset) -> list[tuple[str, str, int]]:
        """The names that an item surely gives of others: as written, the name that this means, and the line."""
        return []

    def judged(self, asset: Asset, facts: Mapping[str, Mapping[str, Value]]) -> list[Finding]:
        """What is wrong with an item by the facts of the items that it names, by how it writes their names."""
        return []

    def among(self, original: Asset, edit: Asset, around: Around) -> list[Finding]:
        """What is wrong with an edit by the other items of its kind in its game."""
        return []

    def spelt(self, asset: Asset, name: str) -> str:
        """Another item's name as this item would write it."""
        return name

    # ---- editing: only kinds that have an exchange --------------------------------------------------------

    def recipe(self, asset: Asset) -> BaseModel:
        """All that encoding it needs."""
        raise self._not_edited()

    def check_writable(self, asset: Asset) -> None:
        """FormatError where this item can be read, but not written again."""

    def send(self, asset: Asset) -> ExchangeFile:
        """The item as a file for an editor, the same bytes every time; of its name only the ending counts."""
        raise self._not_edited()

    def saved(self, asset: Asset, suffix: str) -> bytes:
        """The item as an open file of an ending such as ``.wav``. FormatError for one that it is not written as."""
        sent = self.send(asset)
        if suffix != sent.suffix:
            raise FormatError(f"{self.titles} are not written as '{suffix}'.", expected=sent.suffix)
        return sent.data

    def check_file(self, file: ExchangeFile) -> None:
        """One of Brae's errors where a file that came back cannot be read."""
        raise self._not_edited()

    def painted(self, original: Asset, file: ExchangeFile) -> list[Any]:
        """What an item shows as a file that came back has it, uint8 (height, width, 4) each."""
        raise self._not_edited()

    def convert(self, file: ExchangeFile, suffix: str) -> bytes:
        """A file that came back as another file type of the exchange."""
        raise FormatError(f"A {file.suffix} file is not made into a {suffix} file.")

    def match(self, original: Asset, version: Version, recipe: Mapping[str, Any]) -> tuple[MatchSheet, Encoded]:
        """A version beside its original: what differs, and the version encoded like the original."""
        raise self._not_edited()

    def begun(self, original: Asset, file: ExchangeFile, recipe: Mapping[str, Any], wish: Any) -> bytes:
        """The bytes of a new item that a file makes, encoded like another one; ``wish`` is a model of ``wishes``.

        FormatError where the game would refuse it.
        """
        sheet, made = self.match(original, Version(file), recipe)
        return fit_to_begin(sheet, made)

    def again(self, original: Asset, encoded: Encoded) -> Asset:
        """What was encoded, read again."""
        raise self._not_edited()

    def unchanged(self, original: Asset, encoded: Encoded) -> bool:
        """Whether the other items that hold the rest of it are as they were."""
        return not encoded.elsewhere

    def tell(
        self,
        recipe: Mapping[str, Any],
        choices: Mapping[str, Any],
        sheet: Mapping[str, Any] | None,
        beside: Mapping[str, str],
        library: Library,
    ) -> Details:
        """What the page of this kind needs to know of an edit; ``beside`` has the names of the files beside it."""
        return self.details(kind=self.id, recipe=dict(recipe), choices=dict(choices))

    def check_beside(self, original: Asset, edit: Asset | None, part: str, file: ExchangeFile | None) -> str:
        """Refuse a file that cannot replace a part of an item; else how the part is called in a few words.

        Without a ``file`` only the part is looked at.
        """
        raise FormatError(f"No part of {self.title.lower()} is replaced by itself.")

    def mark(self, asset: Asset, mark: str) -> Version:
        """The item made obvious for a trial, in one of the ways of ``marks``."""
        raise FormatError(f"{self.titles} have no mark '{mark}'.")

    def said(self, choices: Mapping[str, Any]) -> str:
        """Choices in a few words."""
        return ", ".join(f"{name} {value}" for name, value in choices.items()) or "like the original"

    def _not_edited(self) -> FormatError:
        return FormatError(
            f"{self.titles} cannot be edited yet.",
            remedy="You can look at them, listen to them and keep their bytes.",
        )

    def suffixes(self) -> tuple[str, ...]:
        """Endings of the files that are taken back."""
        return tuple(one.suffix for one in self.exchange)


def fit_to_begin(sheet: MatchSheet, made: Encoded) -> bytes:
    """The bytes of a new item; FormatError where it would be in several items, or the game would refuse it."""
    if made.elsewhere:
        raise FormatError("This one lies in several items: nothing is made like it yet.")
    stops = [one for one in sheet.open_findings if one.severity == "stops"]
    if stops:
        raise FormatError(f"The game would refuse it: {stops[0].title}", remedy=stops[0].in_game)
    return made.data


SaidModel = TypeVar("SaidModel", bound=BaseModel)


def as_said(model: type[SaidModel], said: Mapping[str, Value], title: str) -> SaidModel | None:
    """What a container says of an item, checked; None where that is its kind alone.

    Raises FormatError for facts that such items do not have, or have not of that sort.
    """
    if all(name == "kind" for name in said):
        return None
    try:
        return model.model_validate(dict(said))
    except ValidationError as error:
        # A misspelt name explains what is missing.
        first = min(error.errors(), key=lambda one: one["type"] != "extra_forbidden")
        name, known = ".".join(map(str, first["loc"])), [one for one in model.model_fields if one != "kind"]
        expected: str | None = ", ".join(known)
        if first["type"] == "extra_forbidden":
            words = f"A {title} has no fact '{name}' that a layout can say{near(name, known)}."
        elif first["type"] == "missing":
            words = f"The layout does not say the {name} of this {title}."
        else:
            why, expected = in_words(first)
            words = (
                f"What the layout says of this {title} cannot be: {name}{': ' if name else ''}{why.rstrip('.')}."
            )
        raise FormatError(words, expected=expected) from None


def unknown(what: str) -> UnknownFormatError:
    """The error for bytes that are not of a kind."""
    return UnknownFormatError(f"These bytes are no {what} that Brae knows.", offset=0)
