"""The words of the command line."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, get_args

import typer
from rich.progress import Progress

from brae import __version__
from brae.cli.output import bar, errors, say, ticker
from brae.core import addresses
from brae.core.containers.depth import Opened, open_path
from brae.core.containers.described import Archive
from brae.core.containers.folders import edits_in
from brae.core.containers.folders import unpack as unpack_archive
from brae.core.containers.recognise import files_of
from brae.core.errors import BraeError, FormatError, NotFoundError, ReadOnlyError, UnknownFormatError, storage_error
from brae.core.layouts.library import FOLDER, Library, companions
from brae.core.layouts.load import load
from brae.core.layouts.model import MAIN, Layout
from brae.core.layouts.segments import write_beside
from brae.core.match import metrics
from brae.core.sources import ByteSource, FileSource
from brae.core.textures import channels, described, formats, images
from brae.core.textures.described import Fetch
from brae.core.textures.encode import encode_like, encode_new
from brae.core.textures.files import HEAD, read_image, read_raw, read_texture, write_image
from brae.core.textures.mips import Content, Filter, MipRule

if TYPE_CHECKING:
    from brae.work import Workspace

app = typer.Typer(
    no_args_is_help=True, add_completion=False, help="Change the pictures, sprites and sounds of games."
)

HomeOption = Annotated[
    Path | None, typer.Option("--home", help="Brae's own folder; without it, the system's usual place.")
]
LayoutOption = Annotated[str | None, typer.Option("--layout", help="A layout's identifier, or a layout file.")]
JsonOption = Annotated[bool, typer.Option("--json", help="Answer as JSON.")]
FileArgument = Annotated[
    str,
    typer.Argument(help="The file (of an index and data pair the index); FILE//MEMBER//... for what lies inside."),
]
PathArgument = Annotated[Path, typer.Argument(help="The file; of an index and data pair the index.")]


@app.callback(invoke_without_command=True)
def version(show: Annotated[bool, typer.Option("--version", help="Show the version.")] = False) -> None:
    """Change the pictures, sprites and sounds of games."""
    if show:
        typer.echo(__version__)
        raise typer.Exit


@app.command()
def demo(
    port: Annotated[int | None, typer.Option(help="The port on 127.0.0.1.")] = None,
    no_browser: Annotated[bool, typer.Option("--no-browser", help="Do not open the page.")] = False,
    into: Annotated[Path | None, typer.Option(help="Make the demo games' files in this folder.")] = None,
    no_start: Annotated[bool, typer.Option("--no-start", help="Only make the files.")] = False,
    home: HomeOption = None,
) -> None:
    """Make the demo game Skerry Post, in both editions, and start Brae with it."""
    from brae.cli.server import serve as start
    from brae.demo import DESKTOP, DISC
    from brae.store import Home
    from brae.work.opening import begin, open_game

    with errors():
        folder = into or Home(home).games
        game = folder / DESKTOP
        if not (game / "skerry.cfg").is_file():  # written last, so it tells that all the rest is there
            typer.echo(f"Making Skerry Post in {game} ...")
            from brae.demo import desktop

            try:
                desktop.generate(folder)
            except OSError as error:
                raise storage_error(error, "make the demo game in", folder) from error

        def make_disc() -> Path:
            if not (folder / DISC / "skerry.cue").is_file():
                from brae.demo import disc

                try:
                    disc.generate(folder)
                except OSError as error:
                    raise storage_error(error, "make the demo game in", folder) from error
            return folder / DISC

        if no_start:
            make_disc()
            typer.echo(f"Skerry Post is in {game} and {folder / DISC}")
            return

        def open_demo(workspace: Workspace) -> None:
            name = "Skerry Post"
            workspace.jobs.start(
                "open",
                f"Opening {name}",
                lambda job: open_game(workspace, game, job, name),
                project=begin(workspace, game, name),
                path=str(game),
            )
            # The disc takes some seconds to make; the desktop edition can be looked at meanwhile.
            workspace.jobs.start(
                "open",
                f"Making and opening the disc edition of {name}",
                lambda job: open_game(workspace, make_disc(), job, f"{name}, disc edition"),
            )

        start(home, port, not no_browser, demo=game, started=open_demo)


@app.command()
def serve(
    port: Annotated[int | None, typer.Option(help="The port on 127.0.0.1.")] = None,
    no_browser: Annotated[bool, typer.Option("--no-browser", help="Do not open the page.")] = False,
    home: HomeOption = None,
) -> None:
    """Start Brae."""
    from brae.cli.server import serve as start

    with errors():
        start(home, port, not no_browser)


# ---- archives -------------------------------------------------------------------------------------------


def _library(file: Path) -> Library:
    from brae.demo import LAYOUTS
    from brae.store.home import usual_place

    # A game's own layouts lie in its folder, which may be some levels above the archive.
    own = [parent / FOLDER for parent in reversed(file.resolve().parents)]
    return Library.of([LAYOUTS, usual_place() / "layouts", *own])


def _check_file(file: Path) -> None:
    if not file.is_file():
        raise NotFoundError(f"There is no file {file}.", remedy="Check the spelling.")


def _split(target: str) -> tuple[Path, list[str]]:
    """The file of an address, and the levels inside it; NotFoundError where there is no such file."""
    whole, *levels = [target] if Path(target).is_file() else addresses.split(target)
    _check_file(Path(whole))
    return Path(whole), levels


def _kind(layout: str | None, library: Library) -> str | None:
    """The layout that was named; a layout file is made known first."""
    if layout is None:
        return None
    if layout.endswith((".yaml", ".yml")):
        found = load(Path(layout))
        library.add(found)
        return found.layout
    return library.get(layout).layout


def _open(target: str, layout: str | None) -> tuple[Opened, Library]:
    file, levels = _split(target)
    library = _library(file)
    return open_path(file, levels, library, _kind(layout, library)), library


def _read(target: str) -> tuple[bytes, str, Library, Fetch]:
    """The bytes of a file, or of a member at any depth, its name, and the way to what lies beside it."""
    file, levels = _split(target)
    library = _library(file)
    if not levels:

        def beside(name: str) -> bytes:
            found = [folder / name for folder in file.absolute().parents if (folder / name).is_file()]
            if not found:
                raise NotFoundError(
                    f"{name}, which holds the larger levels, does not lie beside it.", address=target
                )
            return found[0].read_bytes()

        return file.read_bytes(), file.name, library, beside
    holder = open_path(file, levels[:-1], library).container
    index = holder.index_of(levels[-1])
    if index < 0:
        raise NotFoundError(f"There is no member '{levels[-1]}'.", address=target)
    return holder.read(index), holder.names[index], library, holder.read_named


@app.command()
def inspect(file: FileArgument, layout: LayoutOption = None, as_json: JsonOption = False) -> None:
    """What a file is, its members, and whether it can be rebuilt exactly."""
    with errors(as_json):
        path, levels = _split(file)
        library = _library(path)
        kind = _kind(layout, library)
        try:
            named = kind is not None and library.layouts[kind].kind != "archive"
            archive = None if named else open_path(path, levels, library, kind).container
        except UnknownFormatError:
            archive = None
        if archive is not None:
            with bar("proof", len(archive)) as tick:
                proof = archive.prove(lambda done, total: tick())
            data: dict[str, Any] = {
                "kind": "archive",
                "layout": archive.layout.layout if isinstance(archive, Archive) else None,
                "title": archive.title,
                "members": len(archive),
                "proof": proof.as_dict(),
                "names": archive.names if as_json else None,
                "references": archive.references.tolist(),
            }
            words = f"{file}: {archive.title}, {len(archive):,} members\n"
            words += (
                "proof: exact, an unchanged rebuild equals the original"
                if proof.exact
                else f"no proof: {proof.reason}"
            )
            if len(archive.references):
                words += f"\n{len(archive.references):,} references between members"
        else:
            data, words = _inspect_other(file, library.layouts.get(kind or ""))
    say(data, words, as_json)


def _inspect_other(target: str, layout: Layout | None) -> tuple[dict[str, Any], str]:
    from brae.core.catalogue import describe

    data, name, library, fetch = _read(target)
    item = describe(data[:HEAD], library, level=name, name=name, stored=len(data), real=len(data), packer="none")
    found: dict[str, Any] = {"kind": item.kind, "layout": None, "members": 0, "proof": {"exact": False}}
    if item.fault is not None:
        raise FormatError(item.fault, address=name)
    if item.kind != "texture":
        words = "no layout fits" if item.kind == "data" else (item.container or item.kind)
        return found, f"{name}: {item.kind} ({words}), {len(data):,} bytes"
    texture = (
        read_texture(data, library, name, fetch) if layout is None else described.read(layout, data, name, fetch)
    )
    head = texture.header
    again = texture.rewrite(head, texture.levels)
    found |= {
        "layout": head.container if head.container in library.layouts else layout.layout if layout else None,
        "container": head.container,
        "proof": {"exact": again == data},
        "recipe": texture.recipe().model_dump(),
    }
    words = f"{name}: {head.width} x {head.height}, {head.format.title}, {head.levels} levels, {head.orientation}"
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
    from brae.core.structure import companion_pattern
    from brae.core.structure import propose as find_structure

    with errors(as_json):
        _check_file(file)
        sources: dict[str, ByteSource] = {"main": FileSource(file)}
        pattern = None
        if data is not None:
            _check_file(data)
            sources["data"] = FileSource(data)
            pattern = companion_pattern(file.name, data.name)
        found = find_structure(sources, pattern)
        if not found:
            raise UnknownFormatError(
                "No structure was found.",
                address=file.name,
                remedy="It may be packed or encrypted as a whole, or of a kind that only a person can describe: "
                "docs/cookbook.md shows how.",
            )
        best = found[0].called(out.stem if out else file.suffix.lstrip(".") or file.stem, file.name)
        if out is not None:
            _write(out, best.encode())
        words = "\n".join(
            f"{number}. {one.members:,} members, {one.explained:.1%} explained, "
            + ("proof: exact" if one.proof.exact else f"no proof: {one.proof.reason}")
            for number, one in enumerate(found, 1)
        )
        report = [
            {"members": one.members, "explained": one.explained, "proof": one.proof.as_dict(), "layout": one.text}
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
    as_json: JsonOption = False,
) -> None:
    """Every member as a file, unpacked."""
    with errors(as_json):
        archive = _open(file, layout)[0].container
        with bar("unpack", len(archive)) as tick:
            faults = list(unpack_archive(archive, out, tick))
        say(
            {"members": len(archive) - len(faults), "faults": [fault.as_dict() for fault in faults]},
            f"{len(archive) - len(faults):,} members in {out}",
            as_json,
        )
        for fault in faults:
            typer.echo(f"brae: {fault}", err=True)
        if faults:
            raise typer.Exit(1)


def _targets(layout: Layout | None, out: Path, files: Iterable[str]) -> dict[str, Path]:
    """Where the files of an archive go that is written to ``out``."""
    return companions(layout, out, files) if layout is not None else {MAIN: out}


@app.command()
def repack(
    file: FileArgument,
    source: Annotated[Path, typer.Option("--from", help="The folder with what shall differ.")],
    out: Annotated[Path, typer.Option("-o", "--out", help="The new archive; its data files go beside it.")],
    layout: LayoutOption = None,
    add: Annotated[bool, typer.Option("--add", help="Files that are no members become members.")] = False,
    remove: Annotated[bool, typer.Option("--remove", help="Members without a file are taken out.")] = False,
    as_json: JsonOption = False,
) -> None:
    """The archive rebuilt with what differs in a folder."""
    with errors(as_json):
        opened, library = _open(file, layout)
        archive = opened.container
        if not source.is_dir():
            raise NotFoundError(f"There is no folder {source}.")
        outer = opened.outermost
        described = library.layouts.get(outer.kind)
        mine = {path.resolve() for path in files_of(outer.kind, _split(file)[0], library).values()}
        if mine & {target.resolve() for target in _targets(described, out, ()).values()}:
            raise ReadOnlyError(
                "The original is never overwritten.", address=str(out), remedy="Choose another name with -o."
            )
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
        targets = _targets(described, out, composed.segments)
        for name in composed.segments:
            target = targets[name]
            try:
                target.parent.mkdir(parents=True, exist_ok=True)
                draft = target.with_name(f".{target.name}.brae-new")
                try:
                    write_beside(composed, name, draft)
                    draft.replace(target)
                finally:
                    draft.unlink(missing_ok=True)
            except OSError as error:
                raise storage_error(error, "write", target) from error
        changed = [archive.levels[index] for index in sorted(edits.changed)]
        added = [new.name for new in edits.added]
        removed = [archive.levels[index] for index in sorted(edits.removed)]
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


# ---- pictures -------------------------------------------------------------------------------------------


def _write(path: Path, data: bytes) -> None:
    from brae.work.edits import write_atomically

    write_atomically(path, data)


@app.command()
def decode(
    file: FileArgument,
    out: Annotated[
        Path, typer.Option("-o", "--out", help="The picture: .png .bmp .tga .tiff .webp .hdr .exr .dds .ktx2")
    ],
    level: Annotated[int, typer.Option(help="Which mip level.")] = 0,
    layout: LayoutOption = None,
) -> None:
    """A texture as a picture."""
    with errors():
        data, name, library, fetch = _read(file)
        kind = _kind(layout, library)
        if kind is not None:
            texture = described.read(library.layouts[kind], data, name, fetch)
        else:
            texture = read_texture(data, library, name, fetch)
        if not 0 <= level < len(texture.levels):
            raise NotFoundError(f"There is no mip level {level}.", expected=f"0 to {len(texture.levels) - 1}")
        picture = texture.picture(level)
        _write(out, write_image(picture, _picture_kind(out), alpha=texture.header.format.alpha != "none"))
        typer.echo(f"{out}: {picture.shape[1]} x {picture.shape[0]}")


def _picture_kind(out: Path) -> str:
    """Which open format a name asks for."""
    kind = {"jpg": "jpeg", "tif": "tiff"}.get(found := out.suffix.lower().lstrip("."), found)
    if kind not in (*images.WRITABLE, "dds", "ktx2"):
        known = ", ".join(f".{name}" for name in (*images.WRITABLE, "dds", "ktx2"))
        raise UnknownFormatError(f"Pictures are not written as '{out.suffix}'.", expected=known)
    return kind


@app.command()
def encode(
    image: Annotated[Path, typer.Argument(help="A picture that an image program saved, or a folder of them.")],
    out: Annotated[Path, typer.Option("-o", "--out", help="The texture (.dds or .ktx2), or a folder.")],
    like: Annotated[
        Path | None, typer.Option(help="Encode it like this original (of a folder: the one of the same name).")
    ] = None,
    pixel_format: Annotated[
        str | None, typer.Option("--format", help="bc1 to bc7, rgba8, rgb565, rgba16f ... (docs/formats.md).")
    ] = None,
    mips: Annotated[str, typer.Option(help="all, none, or how many levels.")] = "all",
    effort: Annotated[str, typer.Option(help="How long to search: fast, normal or high.")] = "normal",
    content: Annotated[
        str, typer.Option(help="colour, data, normal or cut-out: how mip levels are made.")
    ] = "colour",
    mip_filter: Annotated[str, typer.Option("--filter", help="box, kaiser or lanczos.")] = "box",
    wrap: Annotated[
        bool, typer.Option("--wrap", help="The picture repeats: mip levels mix opposite edges.")
    ] = False,
    perceptual: Annotated[bool, typer.Option("--perceptual", help="Weigh colours as the eye does.")] = False,
    dx10: Annotated[bool, typer.Option("--dx10", help="A DDS header with the DX10 extension (148 bytes).")] = False,
    packed: Annotated[str, typer.Option(help="Of a .ktx2: none, zstd or zlib.")] = "none",
) -> None:
    """A picture as a texture; a whole folder on all cores."""
    with errors():
        if (like is None) == (pixel_format is None):
            raise FormatError("Say either --like ORIGINAL or --format NAME.")
        _one_of("--effort", effort, get_args(formats.Effort))
        _one_of("--content", content, get_args(Content))
        _one_of("--filter", mip_filter, get_args(Filter))
        _one_of("--packed", packed, ("none", "zstd", "zlib"))
        if not (mips in ("all", "none") or (mips.isdigit() and int(mips) > 0)):
            raise FormatError(f"--mips {mips} is not known.", expected="all, none or a number")
        how = formats.How(effort=effort, perceptual=perceptual)  # type: ignore[arg-type]
        rule = MipRule(content, mip_filter, wrap)  # type: ignore[arg-type]
        levels = None if mips == "all" else 1 if mips == "none" else int(mips)

        def one(source: Path, target: Path, original: Path | None) -> str:
            _check_file(source)
            picture = read_image(source.read_bytes(), source.name).picture
            if original is not None:
                _check_file(original)
                texture = read_texture(original.read_bytes(), _library(original), original.name)
                recipe = texture.recipe().model_copy(update={"effort": effort, "perceptual": perceptual})
                encoded = encode_like(picture, texture, recipe)
                data, words = encoded.data, f"{encoded.kept} of {encoded.blocks} blocks kept from the original"
            else:
                container = target.suffix.lower().lstrip(".")
                if container not in ("dds", "ktx2"):
                    raise UnknownFormatError(
                        f"'{target.suffix}' needs --like ORIGINAL.", expected="a name that ends in .dds or .ktx2"
                    )
                chosen, words = formats.get(pixel_format or ""), pixel_format or ""
                data = encode_new(
                    picture, chosen, levels, container=container, dx10=dx10, scheme=packed, how=how, rule=rule
                )
            _write(target, data)
            return f"{target}: {len(data):,} bytes, {words}"

        if not image.is_dir():
            typer.echo(one(image, out, like))
            return
        _encode_folder(image, out, like, one)


def _one_of(option: str, value: str, known: tuple[str, ...]) -> None:
    if value not in known:
        raise FormatError(f"{option} {value} is not known.", expected=", ".join(known))


def _encode_folder(
    folder: Path, out: Path, like: Path | None, one: Callable[[Path, Path, Path | None], str]
) -> None:
    """Every picture below a folder, to the same place below another; what fails is told at the end."""
    suffixes = {f".{name}" for name in (*images.TYPES, "dds", "ktx2", "jpg", "tif")}
    sources = sorted(path for path in folder.rglob("*") if path.suffix.lower() in suffixes)
    if not sources:
        raise NotFoundError(f"There are no pictures below {folder}.")

    def work(source: Path) -> str | BraeError:
        inside = source.relative_to(folder)
        original = None
        target = (out / inside).with_suffix(".dds")
        if like is not None:
            beside = (like / inside).parent
            original = next((path for path in sorted(beside.glob(f"{source.stem}.*")) if path.is_file()), None)
            if original is None:
                return NotFoundError(f"There is no original for {inside} below {like}.")
            target = (out / inside).with_suffix(original.suffix)
        try:
            return one(source, target, original)
        except BraeError as error:
            return error.at(str(inside))

    failed: list[BraeError] = []
    with ThreadPoolExecutor(os.cpu_count()) as pool, Progress(transient=True) as progress:
        task = progress.add_task("encoding", total=len(sources))
        for answer in pool.map(work, sources):
            progress.advance(task)
            if isinstance(answer, BraeError):
                failed.append(answer)
            else:
                typer.echo(answer)
    typer.echo(f"{len(sources) - len(failed)} of {len(sources)} encoded")
    for error in failed:
        typer.echo(f"brae: {error}", err=True)
    if failed:
        raise typer.Exit(1)


@app.command()
def guess(
    file: FileArgument,
    out: Annotated[Path | None, typer.Option("-o", "--out", help="A picture of the best guess.")] = None,
    most: Annotated[int, typer.Option(help="How many guesses to tell.")] = 10,
    as_json: JsonOption = False,
) -> None:
    """Pixels without a header: what they could be, best guess first."""
    from brae.core.textures.guess import propose as guesses_of

    with errors():
        data, name, _, _ = _read(file)
        found = guesses_of(data, most)
        if not found:
            raise UnknownFormatError(f"No sides explain {len(data):,} bytes of pixels.", address=name)
        if out is not None:
            texture = read_raw(data, found[0].header(data), found[0].offset)
            _write(out, write_image(texture.picture(), _picture_kind(out)))
        shown = [
            {
                "format": one.format,
                "width": one.width,
                "height": one.height,
                "levels": one.levels,
                "offset": one.offset,
                "storage": one.storage.model_dump() if one.storage else None,
                "fit": round(one.fit, 3),
            }
            for one in found
        ]
        lines = "\n".join(f"{one.fit:5.0%}  {one.words}" for one in found)
        say({"guesses": shown}, lines, as_json)


@app.command()
def split(
    image: Annotated[Path, typer.Argument(help="A picture, or a texture decoded to one.")],
    out: Annotated[Path, typer.Option("-o", "--out", help="The folder for a picture of each channel.")],
) -> None:
    """The channels of a packed map as pictures of their own."""
    with errors():
        _check_file(image)
        found = read_image(image.read_bytes(), image.name)
        kind = "exr" if formats.depth_of(found.picture) == "float" else "png"
        for letter, grey in channels.split(found.picture, "rgba" if found.has_alpha else "rgb").items():
            target = out / f"{image.stem}_{letter}.{kind}"
            _write(target, write_image(grey, kind, alpha=False))
            typer.echo(str(target))


ChannelOption = Annotated[Path | None, typer.Option(help="The picture for this channel (its red, or its grey).")]


@app.command()
def compose(
    out: Annotated[Path, typer.Option("-o", "--out", help="The packed map.")],
    r: ChannelOption = None,
    g: ChannelOption = None,
    b: ChannelOption = None,
    a: ChannelOption = None,
    base: Annotated[Path | None, typer.Option(help="Where the other channels come from.")] = None,
    invert: Annotated[str, typer.Option(help="Channels to invert, such as g or ra.")] = "",
) -> None:
    """Pictures as the channels of one: a packed map."""
    with errors():

        def picture(path: Path) -> formats.Picture:
            _check_file(path)
            return read_image(path.read_bytes(), path.name).picture

        parts = {
            letter: channels.Part(picture(path), "r", letter in invert)
            for letter, path in {"r": r, "g": g, "b": b, "a": a}.items()
            if path is not None
        }
        whole = picture(base) if base is not None else None
        for letter in invert:
            if whole is not None and letter not in parts:
                parts[letter] = channels.Part(whole, letter, True)
        made = channels.compose(parts, whole)
        _write(out, write_image(made, _picture_kind(out), alpha=bool((formats.shown(made)[..., 3] < 255).any())))
        typer.echo(f"{out}: {made.shape[1]} x {made.shape[0]}")


@app.command()
def texels(
    world: Annotated[float, typer.Argument(help="How many units of the world a side covers.")],
    per_unit: Annotated[float | None, typer.Option(help="Texels a unit: which side is that?")] = None,
    side: Annotated[int | None, typer.Option(help="Texels of the side: how many is that a unit?")] = None,
) -> None:
    """How large a texture has to be for a surface (a scale of 0.25 is 4 texels a unit)."""
    with errors():
        if (per_unit is None) == (side is None) or world <= 0 or (per_unit or side or 0) <= 0:
            raise FormatError("Say either --per-unit N or --side N; all numbers are greater than nothing.")
        if per_unit is not None:
            typer.echo(f"{metrics.side_for(world, per_unit)} texels")
        else:
            typer.echo(f"{metrics.texels_per_unit(side or 0, world):g} texels a unit")


# ---- projects -------------------------------------------------------------------------------------------

ProjectArgument = Annotated[str, typer.Argument(help="The project's identifier.")]


@contextmanager
def _workspace(home: Path | None) -> Iterator[Workspace]:
    # Imported here: the commands that need no database start faster without it.
    from brae.store import Home
    from brae.work import Workspace

    workspace = Workspace(Home(home))
    try:
        yield workspace
    finally:
        workspace.close()


@app.command()
def build(
    project: ProjectArgument,
    way: Annotated[
        str | None, typer.Option(help="archive, loose or add-on, as the game's profile allows; remembered.")
    ] = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """Put the edits of a project into its game."""
    from brae.work import builds
    from brae.work.projects import choose

    with errors(as_json), _workspace(home) as workspace, ticker() as watching:
        if way is not None:
            choose(workspace, project, way=way)
        result = builds.build(workspace, project, watching)
        lines = [f"{file['path']}: {file['way']}, {file['why']}" for file in result["files"]]
        say(result, "\n".join(lines) or "The game's files are as the edits want them.", as_json)


@app.command()
def restore(
    project: ProjectArgument,
    file: Annotated[list[str] | None, typer.Option(help="Only this file (may be repeated).")] = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """Put the game's own files back."""
    from brae.work import builds

    with errors(as_json), _workspace(home) as workspace:
        result = builds.restore(workspace, project, file or None)
        say(result, "\n".join(f"{path}: as it was" for path in result["files"]) or "Nothing was changed.", as_json)
