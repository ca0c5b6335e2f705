"""``brae search``, ``copies``, ``links``: items by words, by a picture, by bytes; what belongs together."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from brae.cli.app import HomeOption, JsonOption, app
from brae.cli.output import errors, readable, say, ticker
from brae.cli.projects import open_workspace
from brae.core.errors import NotFoundError

if TYPE_CHECKING:
    from brae.core.find.folder import HeldItem
    from brae.core.find.gathering import Gathered
    from brae.core.find.graph import Linked
    from brae.core.find.links import Links

TargetArgument = Annotated[
    str, typer.Argument(help="A project, a folder, or a file (inside archives: FILE//MEMBER).")
]
_SHOWN_AROUND = 16
#: places of bytes that are counted
_MOST_PLACES = 1_000_000


@app.command()
def search(
    target: TargetArgument,
    words: Annotated[
        str,
        typer.Argument(help="Words of the path, conditions (kind:texture width:>=512 size:>1M), /expressions/."),
    ] = "",
    like: Annotated[
        Path | None, typer.Option(help="A picture: what shows it, or appears in it (a screenshot), best first.")
    ] = None,
    pattern: Annotated[
        str | None,
        typer.Option("--bytes", help='What stands in the bytes: "52 49 ?? 46", \'"a text"\', u32:4096.'),
    ] = None,
    text: Annotated[
        str | None, typer.Option(help="Words that stand in one line of a text; the lines are shown.")
    ] = None,
    limit: Annotated[int, typer.Option(min=1, max=100_000, help="At most so many.")] = 20,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """Find items by words, by a picture, or by the bytes that stand in them."""
    with errors(as_json):
        if pattern is not None:
            _by_bytes(target, pattern, limit, home, as_json)
        elif like is not None:
            _by_picture(target, like, limit, home, as_json)
        elif text is not None:
            _by_text(target, text, limit, home, as_json)
        else:
            _by_words(target, words, limit, home, as_json)


@app.command()
def copies(target: TargetArgument, home: HomeOption = None, as_json: JsonOption = False) -> None:
    """The same picture stored more than once: in another archive, size or format."""
    from brae.core.find.copies import copies_of

    with errors(as_json):
        found = _pictures(target, home)
        groups = [{"items": list(one.keys), "exact": one.exact} for one in copies_of(found.pictures)]
        lines = ["  ".join(one["items"]) + ("" if one["exact"] else "  (alike)") for one in groups]  # type: ignore[arg-type]
        lines.append(f"{len(groups):,} pictures of {len(found.pictures):,} are there more than once")
        say({"groups": groups, "pictures": len(found.pictures), "faults": found.faults}, "\n".join(lines), as_json)


@app.command()
def links(
    target: TargetArgument,
    address: Annotated[
        str, typer.Argument(help="The item, as 'brae search' prints it; without it all are counted.")
    ] = "",
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """What an item needs, what needs it, and the names in it that lead nowhere."""
    from dataclasses import asdict

    with errors(as_json):
        found, known = _links(target, home)
        if not address:
            wrong = [asdict(one) for one in found.missing]
            lines = [
                f"{one.owner}:{one.place}  {one.text}  (nearest: {', '.join(one.nearest)})" for one in found.missing
            ]
            lines.append(f"{len(found.links):,} links, {len(wrong):,} names of nothing")
            unused = sorted(found.unused(known))
            content = {"links": len(found.links), "missing": wrong, "unused": unused, "faults": found.faults}
            say(content, readable("\n".join(lines)), as_json)
            return
        if address not in known:
            raise NotFoundError("There is no such item.", address=address, remedy="'brae search' prints addresses.")
        needs, used_by, missing = found.needs(address), found.used_by(address), found.missing_in(address)
        lines = [f"needs    {one.target}  {one.text}" for one in needs]
        lines += [f"used by  {one.owner}  {one.line}" for one in used_by]
        lines += [f"missing  {one.text}  (nearest: {', '.join(one.nearest)})" for one in missing]
        content = {
            "needs": [asdict(one) for one in needs],
            "used_by": [asdict(one) for one in used_by],
            "missing": [asdict(one) for one in missing],
        }
        say(content, readable("\n".join(lines) or "Nothing is known that it needs, or that needs it."), as_json)


def _links(target: str, home: Path | None) -> tuple[Links, list[str]]:
    """The links of a project, a folder or an archive, and the addresses of all items there."""
    from brae.core.find.graph import links_of

    with _items(target, home) as items:
        return links_of(items), [one.address for one in items]


@contextmanager
def _items(target: str, home: Path | None) -> Iterator[list[Linked]]:
    """The items of a project, a folder or an archive, as they may be linked; they are read while this is open."""
    from brae.cli.targets import names_project, place_of
    from brae.core.find.folder import items_in
    from brae.work.linking import linked

    if names_project(target):
        with open_workspace(home) as workspace:
            workspace.project(target)
            yield linked(workspace, target)
        return
    place, labels, library = place_of(target, home)
    yield _as_linked(items_in(place, library, labels))


def _as_linked(items: Iterable[HeldItem]) -> list[Linked]:
    from brae.core.find.graph import Linked

    return [Linked(one.address, one.item.name, one.item.kind, one.read, one.refers) for one in items]


def _by_words(target: str, words: str, limit: int, home: Path | None, as_json: bool) -> None:
    from brae.cli.targets import names_project, place_of
    from brae.core.find.folder import items_in
    from brae.core.find.graph import links_of, said_by
    from brae.work.columns import Columns, Search, row_of
    from brae.work.telling import told, told_by

    asked = Search(words)
    if names_project(target):
        with open_workspace(home) as workspace:
            workspace.project(target)
            held, states = workspace.catalogues.of(target), workspace.catalogues.in_work(target)
            mask = held.fitting(asked, states, told=told(workspace, target, patient=True))
    else:
        place, labels, library = place_of(target, home)
        items = list(items_in(place, library, labels))
        held = Columns()
        held.extend([row_of(number, one.address, one.item) for number, one in enumerate(items)])
        linked = _as_linked(items)
        mask = held.fitting(asked, told=told_by(held, lambda: links_of(linked), lambda: said_by(linked)))
    places = held.ordered("name", mask).tolist()
    read_as = held.read_as(asked)
    kinds, codes = held.texts("kind")
    found = [{"address": held.addresses[place], "kind": kinds[codes[place]]} for place in places[:limit]]
    lines = [f"{one['kind']:<10} {one['address']}" for one in found]
    lines.append(f"{len(places):,} found" + (f", the first {limit:,} shown" if len(places) > limit else ""))
    lines += [f"nothing is called '{word}'; looked for: {', '.join(meant)}" for word, meant in read_as.items()]
    puzzling = [] if places else held.puzzling(asked)
    lines += puzzling
    answer = {"total": len(places), "found": found, "read_as": read_as, "puzzling": puzzling}
    say(answer, readable("\n".join(lines)), as_json)


def _by_text(target: str, words: str, limit: int, home: Path | None, as_json: bool) -> None:
    from dataclasses import asdict

    from brae.core.find.graph import lines_with, said_by

    with _items(target, home) as items:
        found = list(islice(lines_with(words, said_by(items)), limit))
    shown = [f"{one.address}:{one.place}  {one.line}" for one in found]
    shown.append(f"{len(found):,} lines" + (", and perhaps more" if len(found) == limit else ""))
    say({"found": [asdict(one) for one in found]}, readable("\n".join(shown)), as_json)


def _pictures(target: str, home: Path | None) -> Gathered:
    from brae.cli.targets import names_project, place_of
    from brae.core.find.folder import items_in, pictures_of
    from brae.core.find.gathering import gather
    from brae.core.places import usual_place
    from brae.jobs import Silent, Ticker
    from brae.store.likenesses import Likenesses, key
    from brae.work.finding import gathered

    if names_project(target):
        with open_workspace(home) as workspace, ticker() as watching:
            return gathered(workspace, target, watching)
    place, labels, library = place_of(target, home)
    root = home or usual_place()
    root.mkdir(parents=True, exist_ok=True)
    memory = Likenesses(root / "likenesses.db")
    try:
        items = list(pictures_of(items_in(place, library, labels), library, key))
        with ticker() as shown:
            told: Ticker = shown or Silent()
            return gather(items, memory, lambda count: told.begin(count, "pictures"), told.tick)
    finally:
        memory.close()


def _by_picture(target: str, like: Path, limit: int, home: Path | None, as_json: bool) -> None:
    from brae.cli.targets import check_file, library_for
    from brae.core.find import likeness
    from brae.core.find.asking import asked_picture

    check_file(like)
    query = asked_picture(like.read_bytes(), like.name, library_for(like, home))
    found = _pictures(target, home)
    answers = [
        {
            "address": found.pictures.keys[one.number],
            "score": round(one.score, 4),
            "how": one.how,
            "place": [[round(x, 4), round(y, 4)] for x, y in one.place],
            "flip": one.flip,
        }
        for one in likeness.search(found.pictures, query, limit)
    ]
    lines = [f"{one['score']:.2f}  {one['how']:<7} {one['address']}" for one in answers]
    lines.append(f"{len(found.pictures):,} pictures searched")
    say(
        {"found": answers, "pictures": len(found.pictures), "faults": found.faults},
        readable("\n".join(lines)),
        as_json,
    )


def _by_bytes(target: str, text: str, limit: int, home: Path | None, as_json: bool) -> None:
    from brae.cli.targets import place_of
    from brae.core.find.folder import bytes_in
    from brae.core.find.patterns import pattern_of, places

    pattern = pattern_of(text)
    place, labels, library = place_of(target, home)
    found: list[dict[str, Any]] = []
    total = 0
    for address, source in bytes_in(place, library, labels):
        # Of a file of nothing but one byte nobody wants to see every place.
        for offset, data in islice(places(source, pattern), _MOST_PLACES - total):
            total += 1
            if len(found) < limit:
                start = max(0, offset - _SHOWN_AROUND)
                around = source.read(start, min(source.size - start, offset - start + len(data) + _SHOWN_AROUND))
                found.append(
                    {"address": address, "offset": offset, "bytes": data.hex(" "), "around": around.hex(" ")}
                )
    lines = [f"{one['offset']:>12,}  0x{one['offset']:08x}  {one['address']}  {one['bytes'][:60]}" for one in found]
    more = total >= _MOST_PLACES
    words = f"{total:,} places" + (" and more" if more else "")
    lines.append(words + (f", the first {limit:,} shown" if total > limit else ""))
    say({"total": total, "more": more, "found": found}, readable("\n".join(lines)), as_json)
