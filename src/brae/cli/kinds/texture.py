"""Words about pictures: decode, encode, guess, split, compose, texels."""

from __future__ import annotations

import os
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, Annotated, Any, get_args

import typer

from brae.cli.app import FileArgument, HomeOption, JsonOption, LayoutOption, app
from brae.cli.output import errors, readable, say
from brae.core.errors import BraeError, FormatError, NotFoundError, RefusedError, UnknownFormatError

if TYPE_CHECKING:
    from brae.core.assets.sheet import MatchSheet
    from brae.core.assets.texture import formats

#: the kind that this module has words for; others go the way that all kinds have
TEXTURE = "texture"
#: originals without a new file that are named
_NAMED = 6


@app.command()
def decode(
    file: FileArgument,
    out: Annotated[
        Path,
        typer.Option(
            "-o", "--out", help="Picture: .png .bmp .tga .tiff .webp .hdr .exr .dds .ktx2; sound: .wav .flac .ogg"
        ),
    ],
    level: Annotated[int, typer.Option(help="Which mip level.")] = 0,
    layout: LayoutOption = None,
    home: HomeOption = None,
) -> None:
    """A texture as a picture, a sound as a sound file, a text as a text file."""
    from brae.cli.targets import kind_of, read_target
    from brae.core.assets.texture import described
    from brae.core.assets.texture.files import read_texture, write_image
    from brae.core.atomic import write_atomically

    with errors():
        target = read_target(file, home, into=layout is None)
        context, library = target.context, target.context.library
        chosen = kind_of(layout, library)
        kind = target.kind if chosen is None else None
        if kind is not None and kind.id != TEXTURE:
            made = kind.saved(kind.read(target.data, context), out.suffix.lower())
            write_atomically(out, made)
            typer.echo(f"{out}: {len(made):,} bytes")
            return
        if chosen is not None:
            texture = described.read(library.layouts[chosen], target.data, context.name, context.fetch)
        elif kind is not None:
            texture = kind.read(target.data, context)
        else:
            texture = read_texture(target.data, library, context.name, context.fetch)
        if not 0 <= level < len(texture.levels):
            raise NotFoundError(f"There is no mip level {level}.", expected=f"0 to {len(texture.levels) - 1}")
        picture = texture.picture(level)
        write_atomically(out, write_image(picture, _picture_kind(out), alpha=texture.header.format.alpha != "none"))
        typer.echo(f"{out}: {picture.shape[1]} x {picture.shape[0]}")


def _picture_kind(out: Path) -> str:
    """Which open format a name asks for."""
    from brae.core.assets.texture import images

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
        str | None,
        typer.Option(
            help="Encode it like this original: a file, ARCHIVE//MEMBER, or a folder (the one of the same name)."
        ),
    ] = None,
    pixel_format: Annotated[
        str | None, typer.Option("--format", help="bc1 to bc7, rgba8, rgb565, rgba16f ... (docs/formats.md).")
    ] = None,
    mips: Annotated[str, typer.Option(help="all, none, or how many levels.")] = "all",
    effort: Annotated[str, typer.Option(help="How long to search: fast, normal, high or best.")] = "normal",
    content: Annotated[
        str, typer.Option(help="colour, data, normal or cut-out: how mip levels are made.")
    ] = "colour",
    mip_filter: Annotated[str, typer.Option("--filter", help="box, triangle, cubic, kaiser or lanczos.")] = "box",
    wrap: Annotated[
        bool, typer.Option("--wrap", help="The picture repeats: mip levels mix opposite edges.")
    ] = False,
    stored: Annotated[
        bool, typer.Option("--stored", help="Mip levels average the stored numbers of colours, not their light.")
    ] = False,
    perceptual: Annotated[bool, typer.Option("--perceptual", help="Weigh colours as the eye does.")] = False,
    dx10: Annotated[bool, typer.Option("--dx10", help="A DDS header with the DX10 extension (148 bytes).")] = False,
    packed: Annotated[str, typer.Option(help="Of a .ktx2: none, zstd or zlib.")] = "none",
    srgb: Annotated[
        bool, typer.Option("--srgb", help="Say in the header that the numbers are sRGB (a DDS gets DX10's).")
    ] = False,
    put_right: Annotated[
        bool, typer.Option("--put-right", help="With --like: apply the remedy of every finding that has one.")
    ] = False,
    anyway: Annotated[
        bool, typer.Option("--anyway", help="Write also what the game would refuse (otherwise exit code 3).")
    ] = False,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """A picture as a texture, a sound or a text like its original; a whole folder on all cores.

    What differs from the original is told.
    """
    from brae.cli.targets import check_file, read_target, split_target
    from brae.cli.writing import places, spare
    from brae.core.assets.base import ExchangeFile, Version
    from brae.core.assets.texture import formats
    from brae.core.assets.texture.encode import encode_new
    from brae.core.assets.texture.files import read_image, read_texture
    from brae.core.assets.texture.mips import Content, Filter, MipRule
    from brae.core.assets.texture.sheet import match
    from brae.core.atomic import write_atomically
    from brae.core.containers.recognise import files_of
    from brae.core.layouts.segments import write_all
    from brae.core.warm import cached, warm

    with errors(as_json):
        if (like is None) == (pixel_format is None):
            raise FormatError("Say either --like ORIGINAL or --format NAME.")
        _one_of("--effort", effort, get_args(formats.Effort))
        _one_of("--content", content, get_args(Content))
        _one_of("--filter", mip_filter, get_args(Filter))
        _one_of("--packed", packed, ("none", "zstd", "zlib"))
        if not (mips in ("all", "none") or (mips.isdigit() and int(mips) > 0)):
            raise FormatError(f"--mips {mips} is not known.", expected="all, none or a number")
        how = formats.How(effort=effort, perceptual=perceptual)  # type: ignore[arg-type]
        rule = MipRule(content, mip_filter, wrap, not stored)  # type: ignore[arg-type]
        levels = None if mips == "all" else 1 if mips == "none" else int(mips)
        if not cached():
            typer.echo("Getting the encoders ready; this happens once and takes about half a minute.", err=True)
            warm()

        def one(source: Path, target: Path, original: str | None) -> dict[str, Any]:
            check_file(source)
            findings: list[dict[str, Any]] = []
            if original is not None:
                spare([split_target(original)[0]], [target])
                before = read_target(original, home)
                kind, context = before.kind, before.context
                if kind is not None and kind.id != TEXTURE:
                    asset = kind.read(before.data, context)
                    file, own = ExchangeFile(source.name, source.read_bytes()), kind.recipe(asset).model_dump()
                    sheet, made = kind.match(asset, Version(file), own)
                    if put_right and (remedies := _remedies(sheet)):
                        sheet, made = kind.match(asset, Version(file, tuple(remedies)), own)
                    data, words = made.data, f"like the original's {len(before.data):,}"
                else:
                    read = read_image(source.read_bytes(), source.name)
                    texture = (
                        read_texture(before.data, context.library, context.name)
                        if kind is None
                        else kind.read(before.data, context)
                    )
                    recipe = texture.recipe().model_copy(update={"effort": effort, "perceptual": perceptual})
                    sheet, encoded = match(read, texture, recipe, [], source.name)
                    if put_right and (remedies := _remedies(sheet)):
                        sheet, encoded = match(read, texture, recipe, remedies, source.name)
                    data, words = encoded.data, f"{encoded.kept} of {encoded.blocks} blocks kept from the original"
                findings = [finding.model_dump() for finding in sheet.findings]
                stops = [one for one in sheet.open_findings if one.severity == "stops"]
                if stops and not anyway:
                    raise RefusedError(
                        f"{stops[0].title}. {stops[0].in_game}",
                        address=source.name,
                        remedy="Put it right, or write it all the same with --anyway.",
                    )
                if (composed := before.with_member(data)) is not None:
                    assert before.lone_in is not None
                    outer = before.lone_in.kind
                    targets = places(context.library.layouts.get(outer), target, composed)
                    spare(files_of(outer, split_target(original)[0], context.library).values(), targets.values())
                    write_all(composed, targets)
                    size = target.stat().st_size
                    return {"file": str(target), "bytes": size, "words": words, "findings": findings}
            else:
                read = read_image(source.read_bytes(), source.name)
                container = target.suffix.lower().lstrip(".")
                if container not in ("dds", "ktx2"):
                    raise UnknownFormatError(
                        f"'{target.suffix}' needs --like ORIGINAL.", expected="a name that ends in .dds or .ktx2"
                    )
                chosen, words = formats.get(pixel_format or ""), pixel_format or ""
                data = encode_new(
                    read.picture, chosen, levels, container=container, dx10=dx10 or srgb, scheme=packed, how=how,
                    rule=rule, srgb=srgb,
                )  # fmt: skip
            write_atomically(target, data)
            return {"file": str(target), "bytes": len(data), "words": words, "findings": findings}

        if image.is_dir():
            _encode_folder(image, out, like, home, one, as_json)
        elif as_json:
            say({"encoded": [one(image, out, like)]}, "", True)
        else:
            _tell(one(image, out, like))


def _remedies(sheet: MatchSheet) -> list[Any]:
    """The remedies of the findings that still stand."""
    return [finding.remedy.id for finding in sheet.open_findings if finding.remedy is not None]


def _tell(made: dict[str, Any]) -> None:
    """One texture that was made; what differs from its original goes where errors go."""
    typer.echo(f"{made['file']}: {made['bytes']:,} bytes, {made['words']}")
    for finding in made["findings"]:
        typer.echo(f"brae: {made['file']}: {finding['title']}. {finding['in_game']}", err=True)


def _one_of(option: str, value: str, known: tuple[str, ...]) -> None:
    if value not in known:
        raise FormatError(f"{option} {value} is not known.", expected=", ".join(known))


def _encode_folder(
    folder: Path,
    out: Path,
    like: str | None,
    home: Path | None,
    one: Callable[[Path, Path, str | None], dict[str, Any]],
    as_json: bool,
) -> None:
    """Every file below a folder, to the same place below another; what fails or is left over is told at the end."""
    from concurrent.futures import ThreadPoolExecutor

    from rich.progress import Progress

    from brae.core.addresses import safe_path
    from brae.core.assets.registry import kinds
    from brae.core.assets.texture import images

    suffixes = {f".{name}" for name in (*images.TYPES, "dds", "ktx2", "jpg", "tif")}
    if like is not None:
        suffixes |= {suffix for kind in kinds().values() for suffix in kind.suffixes()}
    sources = sorted(path for path in folder.rglob("*") if path.suffix.lower() in suffixes)
    if not sources:
        raise NotFoundError(f"There is nothing to encode below {folder}.")

    originals = {} if like is None else _originals(like, home)
    #: of each original that is replaced the file that does it: of two, the first
    taken: dict[str, Path] = {}
    pairs: dict[Path, tuple[str, str]] = {}
    for source in sources:
        same = originals.get(source.relative_to(folder).with_suffix("").as_posix().lower(), [])
        if same:
            pairs[source] = _meant(same, source.suffix.lower(), home)
            taken.setdefault(pairs[source][0], source)

    def work(source: Path) -> dict[str, Any] | BraeError:
        inside = source.relative_to(folder)
        original = None
        target = (out / inside).with_suffix(".dds")
        if like is not None:
            if source not in pairs:
                return NotFoundError(f"There is no original for {inside} in {like}.")
            original, own = pairs[source]
            if taken[original] != source:
                first = taken[original].relative_to(folder)
                return FormatError(f"{inside} and {first} would both be {own}.", remedy="Take one of them away.")
            target = out / safe_path(own)
        try:
            return one(source, target, original)
        except BraeError as error:
            return error.at(str(inside))

    failed: list[BraeError] = []
    made: list[dict[str, Any]] = []
    with ThreadPoolExecutor(os.cpu_count()) as pool, Progress(transient=True) as progress:
        task = progress.add_task("encoding", total=len(sources))
        for answer in pool.map(work, sources):
            progress.advance(task)
            if isinstance(answer, BraeError):
                failed.append(answer)
            else:
                made.append(answer)
                if not as_json:
                    _tell(answer)
    left = sorted({one for same in originals.values() for one, _ in same} - taken.keys())
    content = {"encoded": made, "failed": [error.as_dict() for error in failed], "without": left}
    words = f"{len(made)} of {len(sources)} encoded"
    if left:
        some = ", ".join(left[:_NAMED]) + (" ..." if len(left) > _NAMED else "")
        words += f"; {len(left)} originals have no new file: {some}"
    say(content, words, as_json)
    for error in failed:
        typer.echo(readable(f"brae: {error}"), err=True)
    if failed:
        raise typer.Exit(max(error.exit_code for error in failed))


def _meant(same: list[tuple[str, str]], suffix: str, home: Path | None) -> tuple[str, str]:
    """Of originals of one name that which a file is for: a sound's words may lie beside it.

    What ends alike, else what takes such a file, else the first.
    """
    from brae.cli.targets import read_target

    alike = next((one for one in same if PurePosixPath(one[1]).suffix.lower() == suffix), None)
    for one in same if alike is None and len(same) > 1 else ():
        with suppress(BraeError):
            kind = read_target(one[0], home).kind
            if kind is not None and suffix in kind.suffixes():
                return one
    return alike or same[0]


def _originals(like: str, home: Path | None) -> dict[str, list[tuple[str, str]]]:
    """What files are encoded like, of a folder or an archive, and how each is called there.

    By path without ending, in small letters: a new file may be spelt otherwise, and is called as the game calls it.
    """
    from brae.cli.targets import library_for, split_target
    from brae.core import addresses
    from brae.core.containers.nesting import open_path

    folder = Path(like)
    if folder.is_dir():
        paths = (path for path in sorted(folder.rglob("*")) if path.is_file())
        every = [(str(path), path.relative_to(folder).as_posix()) for path in paths]
    else:
        file, labels = split_target(like)
        archive = open_path(file, labels, library_for(file, home)).container
        every = [
            (addresses.join(like, label), name.replace("\\", "/").strip("/"))
            for label, name in zip(archive.labels, archive.names, strict=True)
        ]
    found: dict[str, list[tuple[str, str]]] = {}
    for one, own in every:
        found.setdefault(str(PurePosixPath(own).with_suffix("")).lower(), []).append((one, own))
    return found


@app.command()
def guess(
    file: FileArgument,
    out: Annotated[Path | None, typer.Option("-o", "--out", help="A picture of the best guess.")] = None,
    most: Annotated[int, typer.Option(help="How many guesses to tell.")] = 10,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """Pixels without a header: what they could be, best guess first."""
    from brae.cli.targets import read_target
    from brae.core.assets.texture.files import read_raw, write_image
    from brae.core.assets.texture.guess import propose as guesses_of
    from brae.core.atomic import write_atomically

    with errors():
        data = read_target(file, home, into=False).data
        found = guesses_of(data, most)
        if not found:
            raise UnknownFormatError(f"No dimensions explain {len(data):,} bytes of pixels.", address=file)
        if out is not None:
            texture = read_raw(data, found[0].header(data), found[0].offset)
            write_atomically(out, write_image(texture.picture(), _picture_kind(out)))
        shown = [one.model_dump() | {"fit": round(one.fit, 3)} for one in found]
        lines = "\n".join(f"{one.fit:5.0%}  {one.words}" for one in found)
        say({"guesses": shown}, lines, as_json)


@app.command()
def split(
    image: Annotated[Path, typer.Argument(help="A picture, or a texture decoded to one.")],
    out: Annotated[Path, typer.Option("-o", "--out", help="The folder for a picture of each channel.")],
) -> None:
    """The channels of a packed map as pictures of their own."""
    from brae.cli.targets import check_file
    from brae.core.assets.texture import channels, formats
    from brae.core.assets.texture.files import read_image, write_image
    from brae.core.atomic import write_atomically

    with errors():
        check_file(image)
        found = read_image(image.read_bytes(), image.name)
        kind = "exr" if formats.precision_of(found.picture) == "float" else "png"
        for letter, grey in channels.split(found.picture, "rgba" if found.has_alpha else "rgb").items():
            target = out / f"{image.stem}_{letter}.{kind}"
            write_atomically(target, write_image(grey, kind, alpha=False))
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
    from brae.cli.targets import check_file
    from brae.core.assets.texture import channels, formats
    from brae.core.assets.texture.files import read_image, write_image
    from brae.core.atomic import write_atomically

    with errors():

        def picture(path: Path) -> formats.Picture:
            check_file(path)
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
        write_atomically(
            out, write_image(made, _picture_kind(out), alpha=bool((formats.shown(made)[..., 3] < 255).any()))
        )
        typer.echo(f"{out}: {made.shape[1]} x {made.shape[0]}")


@app.command()
def texels(
    world: Annotated[float, typer.Argument(help="How many units of the world a side covers.")],
    per_unit: Annotated[float | None, typer.Option(help="Texels a unit: which side is that?")] = None,
    side: Annotated[int | None, typer.Option(help="Texels of the side: how many is that a unit?")] = None,
) -> None:
    """How large a texture has to be for a surface (a scale of 0.25 is 4 texels a unit)."""
    from brae.core.assets.texture import metrics

    with errors():
        if (per_unit is None) == (side is None) or world <= 0 or (per_unit or side or 0) <= 0:
            raise FormatError("Say either --per-unit N or --side N; all numbers are greater than nothing.")
        if per_unit is not None:
            typer.echo(f"{metrics.side_for(world, per_unit)} texels")
        else:
            typer.echo(f"{metrics.texels_per_unit(side or 0, world):g} texels a unit")
