"""The catalogue of a project in memory, column by column: searched, counted and ordered by numpy in milliseconds.

What is in a column is in the store; the columns are read from there and brought up to date when it changes. Texts
that many members share (kinds, folders, facts) are kept once, and a column holds their numbers. See
docs/decisions/0013-facts-in-columns.md for what was measured.
"""

from __future__ import annotations

import json
import threading
from collections import OrderedDict
from collections.abc import Callable, Container, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any, cast

import numpy as np
from sqlalchemy import select

from brae.core.assets.facts import Value, declared, is_number
from brae.core.assets.registry import kinds
from brae.core.catalogue import Item
from brae.core.errors import FormatError
from brae.core.find import words
from brae.store.database import Database
from brae.store.models import Addition, Edit, Project

Flags = np.ndarray[Any, np.dtype[np.bool_]]
Numbers = np.ndarray[Any, np.dtype[np.int64]]

#: rows that are read in one go
_BATCH = 50_000
#: projects whose columns stay in memory
_KEPT = 3
#: conditions whose masks are kept, each a byte for a member
_MASKS = 40
#: what every member has, whatever its kind
OWN = ("kind", "type", "packer", "folder")
SIZES = ("bytes", "stored")
#: other names for what every member has
_OTHERWISE = {"size": "bytes"}
#: what is asked of an item beside its own facts: whether it is edited, and where it lies
EDITED, ARCHIVE = "edited", "archive"
#: what an edit is: not looked at yet, ready to build, with something to decide, as the original is
_STATES = ("waiting", "ready", "attention", "same")
#: of an item that a person made, and that is not in work
MADE = "made"
#: what other items say of it, and it of them; answered by ``Told``
TEXT, USES, USED_BY, MISSING, UNUSED, FINDING = "text", "uses", "used-by", "missing", "unused", "finding"
#: bytes that stand in it
HOLDS = "holds"
#: so many values are said where nothing has the one that is asked for
_VALUES = 8
_TOLD = (TEXT, USES, USED_BY, MISSING, UNUSED, FINDING, HOLDS)
YES, NO = ("yes", "true", "1"), ("no", "false", "0")


#: the addresses that fit a condition on what items say of each other: its name and its value
Told = Callable[[str, str], Container[str]]


@dataclass
class Search:
    """What is looked for. ``words``: parts of the address and conditions, see ``brae.core.find.words``."""

    words: str = ""
    #: exact values of facts (or ``kind``, ``type``): one of each has to fit
    where: dict[str, list[str]] = field(default_factory=dict)
    folder: str | None = None
    in_work: bool = False
    #: only these addresses, each with its rank (see the order ``like``)
    ranks: Mapping[str, int] | None = None


class _Texts:
    """A column of texts: each text once, and the members' numbers of it."""

    def __init__(self) -> None:
        self.texts: list[str] = []
        self._known: dict[str, int] = {}

    def number(self, text: str) -> int:
        found = self._known.get(text)
        if found is None:
            found = self._known[text] = len(self.texts)
            self.texts.append(text)
        return found


def row_of(number: int, address: str, item: Item) -> tuple[Any, ...]:
    """An item that is in no store as a row of ``Columns.extend``."""
    folder, facts = item.name.rpartition("/")[0], json.dumps(dict(item.facts))
    return number, address, item.kind, item.container, item.packer, folder, facts, item.real, item.stored


class Columns:
    """The members of one project, in the order of their rows."""

    def __init__(self) -> None:
        self.ids: Numbers = np.empty(0, np.int64)
        self.addresses: list[str] = []
        self._lower: list[str] = []
        self._texts = {name: _Texts() for name in (*OWN, "facts")}
        self._codes: dict[str, np.ndarray] = {name: np.empty(0, np.int32) for name in self._texts}
        self._sizes: dict[str, Numbers] = {name: np.empty(0, np.int64) for name in SIZES}
        self._facts: list[dict[str, Value]] = []
        self._ready: dict[tuple[str, ...], Any] = {}
        self._masks: dict[tuple[str, ...], Flags] = {}
        self._lock = threading.Lock()

    def __len__(self) -> int:
        return len(self.addresses)

    def extend(self, rows: Sequence[Any]) -> None:
        """Members more: id, address, kind, file type, packer, folder, facts as JSON text, bytes, stored bytes."""
        if not rows:
            return
        columns = list(zip(*rows, strict=True))
        self.ids = np.concatenate([self.ids, np.array(columns[0], np.int64)])
        self.addresses += columns[1]
        # Most addresses are in small letters: they are kept once.
        self._lower += [address if address.islower() else address.lower() for address in columns[1]]
        for name, values in zip(self._texts, columns[2:7], strict=True):
            numbers = {value: self._texts[name].number(value or "") for value in dict.fromkeys(values)}
            codes = np.fromiter(map(numbers.__getitem__, values), np.int32, len(rows))
            self._codes[name] = np.concatenate([self._codes[name], codes])
        for name, values in zip(SIZES, columns[7:9], strict=True):
            self._sizes[name] = np.concatenate([self._sizes[name], np.array(values, np.int64)])
        known = self._texts["facts"].texts
        self._facts += [json.loads(text) for text in known[len(self._facts) :]]
        self._ready.clear()
        self._masks.clear()

    def once(self, key: tuple[str, ...], make: Callable[[], Any]) -> Any:
        """What is made of these items once, until there are others."""
        found = self._ready.get(key)
        if found is None:
            found = self._ready[key] = make()
        return found

    # ---- columns ----------------------------------------------------------------------------------------

    def texts(self, name: str) -> tuple[list[str], np.ndarray]:
        """A column as its different values and each member's number of one, -1 where it has none."""
        if name in OWN:
            return list(self._texts[name].texts), self._codes[name]
        if name == ARCHIVE:
            return cast("tuple[list[str], np.ndarray]", self.once((ARCHIVE,), self._archives))
        found: tuple[list[str], np.ndarray] = self.once(("texts", name), lambda: self._of_facts(name))
        return found

    def _archives(self) -> tuple[list[str], np.ndarray]:
        texts = _Texts()
        codes = [texts.number(one.rpartition("//")[0]) if "//" in one else -1 for one in self.addresses]
        return texts.texts, np.array(codes, np.int32)

    def _of_facts(self, name: str) -> tuple[list[str], np.ndarray]:
        texts = _Texts()
        said = [facts.get(name) for facts in self._facts]
        codes = np.array([-1 if value is None else texts.number(str(value)) for value in said] or [-1], np.int32)
        return texts.texts, codes[self._codes["facts"]]

    def numbers(self, name: str) -> np.ndarray[Any, np.dtype[np.float64]]:
        """A column of numbers; NaN where a member has none."""
        if name in SIZES:
            return self._sizes[name].astype(np.float64)

        def make() -> np.ndarray:
            said = [facts.get(name) for facts in self._facts]
            values = [float(value) if isinstance(value, int | float) else np.nan for value in said]
            return np.asarray(np.array(values or [np.nan])[self._codes["facts"]])

        found: np.ndarray[Any, np.dtype[np.float64]] = self.once(("numbers", name), make)
        return found

    def facts(self, place: int) -> dict[str, Value]:
        """What is known of the item at a place."""
        found: dict[str, Value] = self._facts[int(self._codes["facts"][place])]
        return found

    # ---- searching --------------------------------------------------------------------------------------

    def fitting(
        self, search: Search, states: Mapping[str, str] | None = None, without: str = "", told: Told | None = None
    ) -> Flags:
        """Which members fit a search, every condition but the one named ``without``.

        ``states``: of the edits, by the addresses of what is edited; ``told`` answers what items say of each other.
        """
        states = states or {}
        mask = np.ones(len(self), bool)
        for name, values in search.where.items():
            if name != without:
                key = ("where", name, *sorted(values))
                mask &= self._mask(key, partial(self._one_of, name, values))
        if search.folder is not None and without != "folder":
            mask &= self._mask(("folder", search.folder), lambda: self._inside(search.folder or ""))
        for one in words.conditions(search.words, names()):
            if one.name == EDITED:
                found = self._edited(one, states)
            elif one.name in _TOLD:
                if told is None:
                    raise FormatError(
                        f"'{one.name}' can only be asked of a project.", remedy="Open the game first."
                    )
                found = self._are(told(one.name, one.text))
                found = found if one.sign == "=" else ~found
            else:
                found = self._with(one)
            mask &= ~found if one.without else found
        if search.ranks is not None:
            mask &= np.fromiter((one in search.ranks for one in self.addresses), bool, len(self))
        if search.in_work:
            mask &= self._are(states)
        return mask

    def _are(self, addresses: Container[str]) -> Flags:
        return np.fromiter((one in addresses for one in self.addresses), bool, len(self))

    def _edited(self, asked: words.Condition, states: Mapping[str, str]) -> Flags:
        """``edited:yes``, ``edited:no``, or a state of the edit."""
        value = asked.text.lower()
        if value in (*YES, *NO):
            found = self._are(states)
            found = found if value in YES else ~found
        else:
            found = self._are({address for address, state in states.items() if state == value})
        return found if asked.sign == "=" else ~found

    def _with(self, asked: words.Condition) -> Flags:
        """Which members a condition fits that the catalogue answers by itself."""
        key = ("word", asked.name, asked.sign, asked.text, "expression" if asked.expression else "")
        return self._mask(key, partial(self._fits, asked))

    def _fits(self, asked: words.Condition) -> Flags:
        if asked.name:
            return self._term(asked)
        paths: words.Paths = self.once(("paths",), lambda: words.Paths(self._lower))
        if asked.expression:
            return paths.fitting(asked.text)
        found: Flags = paths.with_word(asked.text)
        for meant in self._meant(asked.text) if not found.any() else []:
            found |= paths.with_word(meant)
        return found

    def _meant(self, word: str) -> list[str]:
        """What a word that is in no address probably means: words of addresses that are spelt nearly so."""
        known: list[str] = self.once(("parts",), lambda: words.parts_of(self._lower))
        found: list[str] = self.once(("meant", word), lambda: words.near(word, known))
        return found

    def read_as(self, search: Search) -> dict[str, list[str]]:
        """The words of a search that are in no address, each with those that were looked for instead."""
        asked = (one for one in words.conditions(search.words, names()) if not (one.name or one.expression))
        return {one.text: meant for one in asked if (meant := self._ready.get(("meant", one.text)))}

    def puzzling(self, search: Search) -> list[str]:
        """In words, what no item can fit: conditions on what there is not, and values that nothing has."""
        said = []
        # What is taken away of what there is not leaves all that there is.
        for one in (one for one in words.conditions(search.words, names()) if not one.without):
            if one.unknown and not self._with(one).any():
                known = sorted(names())
                told = " or ".join(f"'{name}'" for name in words.near(one.unknown, known))
                told = f"did you mean {told}?" if told else f"there are {', '.join(known)}."
                said.append(f"There is no condition '{one.unknown}'; {told}")
                continue
            if one.name == EDITED and one.text.lower() not in (*YES, *NO, *_STATES):
                said.append(f"No edit is '{one.text}'; there are yes, no, {', '.join(_STATES)}.")
                continue
            own = one.name and one.name not in (*_TOLD, EDITED) and not is_numeric(one.name)
            if own and one.sign == "=" and not self._with(one).any():
                texts = sorted(set(self.texts(one.name)[0]) - {""})
                there = f"there are {', '.join(texts[:_VALUES])}" if texts else "no item has any"
                said.append(f"Nothing has {one.name}:{one.text}; {there}{', ...' * (len(texts) > _VALUES)}.")
        return said

    def _mask(self, key: tuple[str, ...], make: Callable[[], Flags]) -> Flags:
        """A condition's mask; the last ones are kept, as a page asks for the same conditions again and again."""
        with self._lock:
            found = self._masks.pop(key, None)
        found = make() if found is None else found
        with self._lock:
            self._masks[key] = found
            while len(self._masks) > _MASKS:
                del self._masks[next(iter(self._masks))]
        return found

    def _one_of(self, name: str, values: Sequence[str]) -> Flags:
        texts, codes = self.texts(name)
        wanted = np.array([text in values for text in texts] or [False], bool)
        return np.asarray((codes >= 0) & wanted[codes])

    def _inside(self, folder: str) -> Flags:
        texts, codes = self.texts("folder")
        here = [text == folder or text.startswith(folder + "/") for text in texts]
        return np.asarray(np.array(here or [False], bool)[codes])

    def _term(self, asked: words.Condition) -> Flags:
        name = _OTHERWISE.get(asked.name, asked.name)
        if is_numeric(name):
            sign, wanted = words.numbers_of(asked)
            column = self.numbers(name)
            with np.errstate(invalid="ignore"):
                if len(wanted) == 2:
                    return np.asarray((column >= wanted[0]) & (column <= wanted[1]))
                found: Flags = {
                    "=": np.equal, "!=": np.not_equal, "<": np.less, "<=": np.less_equal, ">": np.greater,
                    ">=": np.greater_equal,
                }[sign](column, wanted[0])  # fmt: skip
            return np.asarray(found & ~np.isnan(column))
        if asked.sign not in ("=", "!="):
            raise FormatError(f"'{asked.name}' is a text: it can only be equal (=) or not (!=).")
        pattern = words.wildcards(asked.text.lower())
        texts, codes = self.texts(name)
        # An archive is named by any part of its path, all else by the whole text.
        fit = pattern.search if name == ARCHIVE else pattern.fullmatch
        fits = np.array([fit(text.lower()) is not None for text in texts] or [False], bool)
        has = codes >= 0
        return np.asarray(has & (fits[codes] == (asked.sign == "=")))

    # ---- counting and ordering --------------------------------------------------------------------------

    def counts(self, name: str, mask: Flags) -> list[tuple[str, int]]:
        """How many of the members in ``mask`` have each value; the most frequent first."""
        texts, codes = self.texts(name)
        found = codes[mask]
        numbers = np.bincount(found[found >= 0], minlength=len(texts)) if texts else np.empty(0, np.int64)
        pairs = [(text, int(count)) for text, count in zip(texts, numbers, strict=True) if count and text]
        return sorted(pairs, key=lambda pair: (-pair[1], pair[0]))

    def ordered(self, order: str, mask: Flags) -> Numbers:
        """The places of the members in ``mask``, in an order of ``orders``."""
        places: Numbers = self.once(("order", order), lambda: self._order(order))
        return places[mask[places]]

    def ranked(self, ranks: Mapping[str, int], mask: Flags) -> Numbers:
        """The places of the members in ``mask`` by their ranks; those without one last."""
        places = np.flatnonzero(mask)
        of = np.array([ranks.get(self.addresses[place], len(ranks)) for place in places], np.int64)
        return np.asarray(places[np.argsort(of, kind="stable")], np.int64)

    def beside(self, kind: str, folder: str) -> Flags:
        """Which members of a kind lie in a folder."""
        wanted = {"kind": kind, "folder": folder}
        masks = []
        for name, text in wanted.items():
            texts, codes = self.texts(name)
            masks.append(codes == (texts.index(text) if text in texts else -1))
        return np.asarray(masks[0] & masks[1])

    def editable(self) -> Flags:
        """Which members can be edited: those of a kind with an exchange that are not damaged."""
        texts, codes = self.texts("kind")
        known = kinds()
        of_kind = np.array([text in known and bool(known[text].exchange) for text in texts] or [False], bool)
        types, numbers = self.texts("type")
        whole = np.array([text != "" for text in types] or [False], bool)
        return np.asarray(of_kind[codes] & whole[numbers])

    def next_named(self, places: Numbers, starts: str, after: int) -> int | None:
        """The next of some places, after the one with that number and around, whose name starts so."""
        wanted = starts.lower()
        total = len(places)
        for step in range(1, total + 1):
            number = (after + step) % total
            address = self._lower[places[number]]
            if address[address.replace("\\", "/").rfind("/") + 1 :].startswith(wanted):
                return number
        return None

    def _has(self, name: str) -> Flags:
        """Which members have a fact."""
        if name == "name":
            return np.ones(len(self), bool)
        if is_numeric(name):
            return np.asarray(~np.isnan(self.numbers(name)))
        texts, codes = self.texts(name)
        return np.asarray(np.array([text != "" for text in texts] or [False], bool)[codes] & (codes >= 0))

    def _order(self, order: str) -> Numbers:
        if order.startswith("-"):
            # What does not have the fact comes last all the same.
            usual = self._order(order[1:])
            has = self._has(order[1:])[usual]
            return np.concatenate([usual[has][::-1], usual[~has]])
        by_address: Numbers = self.once(
            ("order", "name"),
            lambda: np.array(sorted(range(len(self)), key=self.addresses.__getitem__), np.int64),
        )
        if order == "name":
            return by_address
        if order == "kind":
            ranks = {kind: number for number, kind in enumerate(kinds())}
            texts, codes = self.texts("kind")
            keys = np.array([ranks.get(text, len(ranks)) for text in texts] or [0], np.float64)[codes]
        elif order in SIZES:
            keys = -self.numbers(order)
        elif is_numeric(order):
            down = any(facts[order].order == "down" for facts in _models() if order in facts)
            keys = self.numbers(order) * (-1 if down else 1)
        elif by := next((facts[order].order_by for facts in _models() if order in facts), ""):
            return self._order(by)
        else:
            texts, codes = self.texts(order)
            ranked = {text: number for number, text in enumerate(sorted(texts))}
            keys = np.array([ranked[text] for text in texts] or [0], np.float64)[codes]
            keys = np.where(codes < 0, np.nan, keys)
        # NaN comes last: what does not have the fact.
        return by_address[np.argsort(keys[by_address], kind="stable")]


def _models() -> list[dict[str, Any]]:
    return [declared(kind.facts) for kind in kinds().values()]


def is_numeric(name: str) -> bool:
    """Whether a fact (or a size) is a number."""
    return name in SIZES or any(
        name in declared(kind.facts) and is_number(kind.facts, name) for kind in kinds().values()
    )


def names() -> set[str]:
    """All that a search can have conditions on."""
    return {*OWN, *SIZES, *_OTHERWISE, *_TOLD, EDITED, ARCHIVE, *(name for model in _models() for name in model)}


def orders() -> dict[str, str]:
    """In what the catalogue is usually ordered, with the words for it."""
    found = {"kind": "kind", "name": "path", "bytes": "bytes"}
    for model in _models():
        found |= {name: fact.label.lower() for name, fact in model.items() if fact.order}
    return found


def sortable() -> set[str]:
    """All that the catalogue can be ordered by: the usual, and every fact that a column of the list may show."""
    return {*orders(), "type", "stored", *(name for model in _models() for name in model)}


def facets() -> dict[str, str]:
    """By what the catalogue can be narrowed, with the words for it."""
    found = {"kind": "Kind"}
    for model in _models():
        found |= {name: fact.label for name, fact in model.items() if fact.facet}
    return found


class Catalogues:
    """The columns of the projects that were looked at last, kept up to date with the store."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._lock = threading.Lock()
        self._kept: OrderedDict[str, _Kept] = OrderedDict()

    def of(self, project_id: str) -> Columns:
        """The columns of a project as they are now."""
        with self._lock:
            kept = self._kept.setdefault(project_id, _Kept())
            self._kept.move_to_end(project_id)
            while len(self._kept) > _KEPT:
                self._kept.popitem(last=False)
        with kept.lock:
            seen = self._database.version()
            if kept.seen != seen:
                self._bring_up(project_id, kept)
                kept.seen = seen
            return kept.columns

    def _bring_up(self, project_id: str, kept: _Kept) -> None:
        with self._database.session() as session:
            listing = session.scalar(select(Project.listing).where(Project.id == project_id))
            if listing != kept.listing:
                kept.columns, kept.listing, kept.last = Columns(), listing, 0
            # As the driver gives them: a hundred thousand objects would take seconds.
            rows = session.connection().exec_driver_sql(
                "SELECT id, address, kind, container, packer, folder, facts, real, stored FROM members "
                "WHERE project_id = ? AND id > ? ORDER BY id",
                (project_id, kept.last),
            )
            # Who looks at the columns now goes on with those that they have.
            columns = _copy(kept.columns)
            while rows.cursor is not None and (found := rows.cursor.fetchmany(_BATCH)):
                columns.extend(found)
        if len(columns) > len(kept.columns):
            kept.columns, kept.last = columns, int(columns.ids[-1])

    def in_work(self, project_id: str) -> dict[str, str]:
        """The state of every item in work, by its address; ``MADE`` of one that a person made and nobody edits."""
        query = select(Edit.address, Edit.state).where(Edit.project_id == project_id, Edit.in_work)
        here = Addition.project_id == project_id, Addition.gone.is_(False)
        with self._database.session() as session:
            made = dict.fromkeys(session.scalars(select(Addition.address).where(*here)), MADE)
            return made | {row.address: row.state for row in session.execute(query)}


@dataclass
class _Kept:
    """The columns of one project, and up to what they were read."""

    lock: threading.Lock = field(default_factory=threading.Lock)
    columns: Columns = field(default_factory=Columns)
    listing: int | None = None
    last: int = 0
    seen: int | None = None


def _copy(columns: Columns) -> Columns:
    new = Columns()
    new.__dict__ |= columns.__dict__
    new.addresses, new._lower = list(columns.addresses), list(columns._lower)
    new._codes, new._sizes, new._ready = dict(columns._codes), dict(columns._sizes), {}
    new._masks, new._lock = {}, threading.Lock()
    new._facts = list(columns._facts)
    return new
