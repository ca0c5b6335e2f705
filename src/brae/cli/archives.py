"""Words about archives: inspect, propose, unpack, repack."""

from __future__ import annotations

from dataclasses import replace
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from brae.cli.app import FileArgument, HomeOption, JsonOption, LayoutOption, PathArgument, app
from brae.cli.output import bar, errors, readable, say
from brae.cli.writing import places, spare
from brae.core.errors import FormatError, NotFoundError, ReadOnlyError, UnknownFormatError

if TYPE_CHECKING:
    from brae.core.containers.base import Container
    from brae.core.containers.nesting import Opened
    from brae.core.layouts.model import Layout
    from brae.core.sources import ByteSource

#: files found by their signs that a search for a structure goes by
_MOST_HITS = 5000


@app.command()
def inspect(
    file: FileArgument, layout: LayoutOption = None, home: HomeOption = None, as_json: JsonOption = False
) -> None:
    """What a file is, its members, and whether it can be rebuilt exactly."""
    from brae.cli.quick import open_quickly, remember

    with errors(as_json):
        quick = open_quickly(file, layout, home)
        if quick is not None:
            data, words = _archive_words(file, quick, None, as_json)
            say(data | {"layout_faults": []}, words, as_json)
            return
        from brae.cli.targets import kind_of, library_for, split_target
        from brae.core.containers.described import Archive
        from brae.core.containers.nesting import open_path
        from brae.core.games.known import profiles_in

        path, labels = split_target(file)
        library = library_for(path, home)
        remember(library, home)
        kind = kind_of(layout, library)
        try:
            named = kind is not None and library.layouts[kind].kind != "archive"
            archive = None if named else open_path(path, labels, library, kind).container
        except UnknownFormatError:
            archive = None
        if archive is not None:
            described = archive.layout.layout if isinstance(archive, Archive) else None
            data, words = _archive_words(file, archive, described, as_json)
        else:
            data, words = _inspect_other(file, library.layouts.get(kind or ""), home)
        faults = library.errors | profiles_in(library.folders)[1]
        data["layout_faults"] = [error.at(Path(where).name).as_dict() for where, error in faults.items()]
        for error in faults.values():
            typer.echo(readable(f"brae: this layout is faulty and was passed over: {error}"), err=True)
    say(data, words, as_json)


def _archive_words(file: str, archive: Container, layout: str | None, as_json: bool) -> tuple[dict[str, Any], str]:
    from brae.core.containers.evidence import judge, state

    with bar("proof", len(archive)) as tick:
        proof, evidence = judge(archive, lambda done, total: tick())
    data: dict[str, Any] = {
        "kind": "archive",
        "layout": layout,
        "title": archive.title,
        "members": len(archive),
        "state": state(proof, evidence),
        "proof": proof.as_dict(),
        "evidence": [one.as_dict() for one in evidence],
        "names": archive.names if as_json else None,
        "references": archive.references.tolist(),
    }
    words = f"{file}: {archive.title}, {len(archive):,} members\n"
    words += (
        "proof: exact, an unchanged rebuild equals the original" if proof.exact else f"no proof: {proof.reason}"
    )
    if proof.remedy is not None:
        words += f"\nthis would explain it: {proof.remedy}"
    signs = {"for": "speaks for it", "against": "speaks AGAINST it", "nothing": "open"}
    words += "".join(f"\n{signs[one.speaks]}: {one.words}" for one in evidence)
    if len(archive.references):
        words += f"\n{len(archive.references):,} references between members"
    return data, words


def _inspect_other(target: str, layout: Layout | None, home: Path | None) -> tuple[dict[str, Any], str]:
    from brae.cli.targets import read_target
    from brae.core.assets.facts import declared, written
    from brae.core.assets.registry import kinds

    found_there = read_target(target, home, into=False)
    data, name, library = found_there.data, found_there.context.name, found_there.context.library
    item = found_there.item
    found: dict[str, Any] = {"kind": item.kind, "layout": None, "members": 0, "proof": {"exact": False}}
    if item.fault is not None:
        raise FormatError(item.fault, address=name)
    kind = kinds().get(layout.kind if layout is not None else item.kind)
    if kind is None:
        return found, f"{name}: {item.kind} (no layout fits), {len(data):,} bytes"
    asset = kind.read(data, replace(found_there.context, layout=layout))
    again, file_type = kind.rebuild(asset), layout.layout if layout is not None else item.container
    found |= {
        "kind": kind.id,
        "layout": file_type if file_type in library.layouts else None,
        "container": file_type,
        "facts": item.facts,
    }
    said = [
        f"{info.label.lower()} {words}"
        for fact, info in declared(kind.facts).items()
        if (words := written(info, item.facts.get(fact)))
    ]
    words = f"{name}: {kind.id} ({file_type}), {', '.join([*said, f'{len(data):,} bytes'])}"
    if again is None:
        return found, words
    found |= {"proof": {"exact": again == data}, "recipe": kind.recipe(asset).model_dump()}
    return found, f"{words}\nproof: {'exact' if again == data else 'a rebuild differs'}"


@app.command()
def propose(
    file: PathArgument,
    data: Annotated[Path | None, typer.Option(help="The data file that belongs to this index.")] = None,
    out: Annotated[
        Path | None, typer.Option("-o", "--out", help="Write the best layout to this .yaml file.")
    ] = None,
    as_json: JsonOption = False,
) -> None:
    """Find the structure of an archive that no layout describes, and propose layouts for it."""
    from brae.cli.targets import check_file
    from brae.core.atomic import write_atomically
    from brae.core.signs.scan import Search
    from brae.core.sources import FileSource
    from brae.core.structure import companion_pattern
    from brae.core.structure import propose as find_structure

    with errors(as_json):
        check_file(file)
        sources: dict[str, ByteSource] = {"main": FileSource(file)}
        pattern = None
        if data is not None:
            check_file(data)
            sources["data"] = FileSource(data)
            pattern = companion_pattern(file.name, data.name)
        # Files that give themselves away by their signs say where a table of them points.
        signs = islice(Search(sources.get("data", sources["main"])).files(), _MOST_HITS)
        found = find_structure(sources, pattern, hits=[hit.offset for hit in signs])
        if not found:
            raise UnknownFormatError(
                "No structure was found.",
                address=file.name,
                remedy="It may be packed or encrypted as a whole, or of a kind that only a person can describe: "
                "docs/cookbook.md shows how.",
            )
        best = found[0].called(out.stem if out else file.suffix.lstrip(".") or file.stem, file.name)
        if out is not None:
            write_atomically(out, best.encode())
        words = "\n".join(
            f"{number}. {one.members:,} members, {one.explained:.1%} explained, "
            + ("proof: exact" if one.proof.exact else f"no proof: {one.proof.reason}")
            + "".join(f"\n   but: {speaks.words}" for speaks in one.evidence if speaks.speaks == "against")
            for number, one in enumerate(found, 1)
        )
        report = [
            {
                "state": one.state,
                "members": one.members,
                "explained": one.explained,
                "proof": one.proof.as_dict(),
                "evidence": [speaks.as_dict() for speaks in one.evidence],
                "layout": one.text,
            }
            for one in found
        ]
        say(
            {"proposals": report},
            words + (f"\n\nThe first is written to {out}." if out else f"\n\n{best}"),
            as_json,
        )


@app.command()
def unpack(
    file: FileArgument,
    out: Annotated[Path, typer.Option("-o", "--out", help="The folder for the members.")],
    layout: LayoutOption = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """Every member as a file, unpacked."""
    from brae.cli.targets import open_target
    from brae.core.assets.folders import unpack as unpack_archive

    with errors(as_json):
        archive = open_target(file, layout, home)[0].container
        with bar("unpack", len(archive)) as tick:
            faults = list(unpack_archive(archive, out, tick))
        say(
            {"members": len(archive) - len(faults), "faults": [fault.as_dict() for fault in faults]},
            f"{len(archive) - len(faults):,} members in {out}",
            as_json,
        )
        for fault in faults:
            typer.echo(readable(f"brae: {fault}"), err=True)
        if faults:
            raise typer.Exit(1)


def _check_new(*targets: Path) -> None:
    """A new archive takes no other file's place; neither do its data files."""
    for target in targets:
        if target.exists():
            raise ReadOnlyError("There is a file of this name.", address=str(target), remedy="Choose another name.")


@app.command()
def make(
    folder: Annotated[Path, typer.Argument(help="A folder whose files become the members.")],
    out: Annotated[Path, typer.Option("-o", "--out", help="The new archive; its data files go beside it.")],
    layout: LayoutOption = None,
    like: Annotated[
        Path | None, typer.Option("--like", help="An archive whose header and packing the new one takes.")
    ] = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """A new archive from a folder, by a layout, or like another archive."""
    from brae.cli.targets import kind_of, library_for
    from brae.core.assets.folders import new_members
    from brae.core.containers.making import make as make_archive
    from brae.core.layouts.segments import write_all

    if like is not None:
        _rebuild(str(like), folder, out, layout, home, add=True, remove=True, new=True, as_json=as_json)
        return
    with errors(as_json):
        if not folder.is_dir():
            raise NotFoundError(f"There is no folder {folder}.")
        _check_new(out)
        if layout is None:
            raise NotFoundError("Nothing says what kind of archive it is to be.", remedy="Name a --layout.")
        library = library_for(folder, home)
        described_by = library.get(kind_of(layout, library) or layout)
        members = list(new_members(folder))
        composed = make_archive(described_by, members)
        targets = places(described_by, out, composed)
        _check_new(*targets.values())
        write_all(composed, targets)
        files = {name: str(path) for name, path in targets.items()}
        words = f"{len(members):,} members: {', '.join(map(str, targets.values()))}"
        say({"members": [name for name, _ in members], "files": files}, words, as_json)


@app.command()
def repack(
    file: FileArgument,
    source: Annotated[Path, typer.Option("--from", help="The folder with what shall differ.")],
    out: Annotated[Path, typer.Option("-o", "--out", help="The new archive; its data files go beside it.")],
    layout: LayoutOption = None,
    add: Annotated[bool, typer.Option("--add", help="Files that are no members become members.")] = False,
    remove: Annotated[bool, typer.Option("--remove", help="Members without a file are taken out.")] = False,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """The archive rebuilt with what differs in a folder."""
    _rebuild(file, source, out, layout, home, add=add, remove=remove, new=False, as_json=as_json)


def _rebuild(
    file: str,
    source: Path,
    out: Path,
    layout: str | None,
    home: Path | None,
    *,
    add: bool,
    remove: bool,
    new: bool,
    as_json: bool,
) -> None:
    """An archive with what differs in a folder; a ``new`` one takes no other file's place."""
    from brae.cli.targets import open_target, split_target
    from brae.core.assets.folders import edits_in
    from brae.core.containers.recognise import files_of
    from brae.core.layouts.segments import write_all

    with errors(as_json):
        opened, library = open_target(file, layout, home)
        archive = opened.container
        if not source.is_dir():
            raise NotFoundError(f"There is no folder {source}.")
        outer = opened.outermost
        described_by = library.layouts.get(outer.kind)
        mine = files_of(outer.kind, split_target(file)[0], library).values()
        spare(mine, [out])
        at: Opened | None = opened
        while at is not None:
            proof = at.container.prove()
            if not proof.exact:
                raise ReadOnlyError(
                    f"This archive cannot be rebuilt: {proof.reason}", address=file, offset=proof.offset
                )
            at = at.holder
        with bar("compare", None) as tick:
            edits = edits_in(archive, source, library, tick, add=add, remove=remove)
        composed = opened.outwards(archive.rebuild(edits))
        targets = places(described_by, out, composed)
        spare(mine, targets.values())
        if new:
            _check_new(*targets.values())
        write_all(composed, targets)
        changed = [archive.labels[index] for index in sorted(edits.changed)]
        added = [new.name for new in edits.added]
        removed = [archive.labels[index] for index in sorted(edits.removed)]
        more = "".join(f", {len(what)} {word}" for what, word in ((added, "added"), (removed, "removed")) if what)
        say(
            {
                "changed": changed,
                "added": added,
                "removed": removed,
                "files": {name: str(path) for name, path in targets.items()},
            },
            f"{len(changed)} of {len(archive):,} members changed{more}: {', '.join(map(str, targets.values()))}",
            as_json,
        )
