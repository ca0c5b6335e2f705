"""Texture files of every kind: which one a file is, and reading it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from brae.core.assets.base import HEAD, Fetch, nowhere
from brae.core.assets.texture import dds, described, formats, images, ktx2
from brae.core.assets.texture.formats import Picture
from brae.core.assets.texture.images import ImageFile
from brae.core.assets.texture.texture import Header, TextureFile
from brae.core.errors import FormatError, UnknownFormatError
from brae.core.layouts.library import Library
from brae.core.layouts.pixels import PixelsPart


def read_image(data: bytes, name: str = "") -> ImageFile:
    """A picture that came back from an editor: an open picture format, or a DDS or KTX2 file's largest level."""
    if data[:4] == dds.MAGIC or data[:12] == ktx2.MAGIC:
        texture = dds.read(data) if data[:4] == dds.MAGIC else ktx2.read(data)
        head = texture.header
        bits = {"8": 8, "16": 16, "float": 32}[head.format.precision]
        alpha = head.format.alpha != "none"
        picture, kind = texture.picture(), head.container
        behind = len(data) - dds.end_of(data) if kind == "dds" else 0
        return ImageFile(picture, kind, head.format.title, alpha, bits, head.levels, appended=behind)
    return images.read(data, name)


#: larger files are looked at before they are read
LARGE = 64 << 20
#: bytes that a pixel takes at most in any open format, mip levels and a spare half included
_WIDEST_PIXEL = 32
#: as if a file ended as TGA files do (Truevision 2.0), where only its beginning is there to be looked at
TGA_END = b"\0" * 8 + b"TRUEVISION-XFILE.\0"


def check_picture(head: bytes, tail: bytes, size: int, name: str = "") -> None:
    """Refuse a large file that is no picture by its beginning and end (HEAD and 26 bytes), before it is read.

    Raises UnknownFormatError, or FormatError where its sides explain no such size.
    """
    if size <= LARGE:
        return
    sides = None
    if head[:4] == dds.MAGIC:
        header = dds.read_header(head, size).header
        sides = (header.width, header.height * header.pictures())
    elif head[:12] == ktx2.MAGIC:
        header = ktx2.read_header(head).header
        sides = (header.width, header.height * header.pictures())
    else:
        images.type_of(head[:32], tail, name)
        found = images.sniff(head, name)
        sides = found[1:3] if found is not None else None
    if sides is not None and size > sides[0] * sides[1] * _WIDEST_PIXEL + LARGE:
        raise FormatError(
            f"The file has {size:,} bytes, far more than a picture of {sides[0]} x {sides[1]} pixels can need.",
            offset=0,
            remedy="Save it again.",
        )


def write_image(picture: Picture, kind: str = "png", *, alpha: bool = True, quick: bool = False) -> bytes:
    """A picture as a file of an open format; as 'dds' or 'ktx2' with all its channels, and not compressed."""
    if kind not in ("dds", "ktx2"):
        return images.write(picture, kind, alpha=alpha, quick=quick)
    depth = formats.precision_of(picture)
    pixel_format = formats.get({"8": "rgba8", "16": "rgba16", "float": "rgba32f"}[depth])
    header = Header(kind, pixel_format, picture.shape[1], picture.shape[0], 1)
    return write_texture(header, [pixel_format.encode(picture)])


def write_texture(header: Header, levels: Sequence[bytes], *, dx10: bool = False, scheme: str = "none") -> bytes:
    """A new file of the header's container, 'dds' or 'ktx2'."""
    if header.container == "ktx2":
        return ktx2.write(header, levels, scheme=scheme)
    return dds.write(header, levels, dx10=dx10)


def read_picture_file(data: bytes, name: str = "") -> TextureFile:
    """A picture of an open format (PNG, BMP ...) that the game itself uses as a texture."""
    image = images.read(data, name)
    depth = formats.precision_of(image.picture)
    wide = {"8": "8", "16": "16", "float": "32f"}[depth]
    pixel_format = formats.get(f"{'rgba' if image.has_alpha else 'rgb'}{wide}")
    height, width = image.picture.shape[:2]
    header = Header(image.type, pixel_format, width, height, 1)

    def rewrite(new: Header, levels: Sequence[bytes]) -> bytes:
        picture = new.format.decode(levels[0], new.width, new.height)
        if new.container == "jpeg":
            return images.write_jpeg_like(picture, data)
        return images.write(picture, new.container, alpha=new.format.alpha != "none")

    return TextureFile(
        header,
        [pixel_format.encode(image.picture)],
        len(data),
        rewrite,
        lambda again, _: read_picture_file(again, name),
        appended=image.appended,
    )


def read_raw(data: bytes, header: Header, start: int = 0) -> TextureFile:
    """Pixels without a header, as ``header`` says they are; ``start``: what stands before them is kept."""
    from brae.core.assets.texture.texture import join_levels, split_levels

    header = replace(header, container="raw").check()
    levels, end = split_levels(header, data, start)
    before, behind = data[:start], data[end:]
    return TextureFile(
        header,
        levels,
        len(data),
        lambda new, made: before + join_levels(new, made) + behind,
        lambda again, _: read_raw(again, header, start),
    )


def read_texture(data: bytes, library: Library, name: str = "", fetch: Fetch = nowhere) -> TextureFile:
    """A texture of any known kind; UnknownFormatError where the bytes are none.

    ``name`` tells layouts apart whose files have no magic; ``fetch`` gives other files of the game by their names,
    for streamed textures.
    """
    joined = library.joining(name, data[:HEAD], len(data))
    if joined is not None:
        return described.read(joined, data, name, fetch)
    if data[:4] == dds.MAGIC:
        return dds.read(data)
    if data[:12] == ktx2.MAGIC:
        return ktx2.read(data)
    layout = library.recognise(name, data[:HEAD], "texture", size=len(data))
    if layout is not None:
        return described.read(layout, data, name, fetch)
    if images.is_picture(data, name):
        return read_picture_file(data, name)
    raise UnknownFormatError("These bytes are no texture that Brae knows.", offset=0)


def sniff_texture(head: bytes, library: Library, name: str = "", size: int | None = None) -> Header | None:
    """What the first bytes (HEAD of them) say, without the pixels; None where they are no texture.

    ``size`` is the whole file's, for layouts that are told by it.

    Raises one of Brae's errors where they are a texture that is damaged or of an unknown pixel format.
    """
    joined = library.joining(name, head, size)
    if joined is not None:
        return described.sniff(joined, head)
    if head[:4] == dds.MAGIC:
        return dds.read_header(head, size).header
    if head[:12] == ktx2.MAGIC:
        return ktx2.read_header(head).header
    layout = library.recognise(name, head, "texture", size=size)
    if layout is not None:
        return described.sniff(layout, head)
    return sniff_picture(head, name)


def sniff_picture(head: bytes, name: str = "") -> Header | None:
    """The same of a picture of an open format (PNG, BMP ...) that the game uses as a texture."""
    found = images.sniff(head, name)
    if found is None:
        return None
    kind, width, height, alpha = found
    wide = "32f" if kind in ("hdr", "exr") else "16" if kind == "png" and head[24:25] == b"\x10" else "8"
    return Header(kind, formats.get(f"{'rgba' if alpha else 'rgb'}{wide}"), width, height, 1)


def sayable(container: str, library: Library) -> list[str]:
    """The pixel formats that a file of this kind can say it has."""
    if container in ("dds", "ktx2"):
        return dds.FORMATS if container == "dds" else ktx2.FORMATS
    layout = library.layouts.get(container)
    part = layout.only(PixelsPart) if layout is not None else None
    known = {pixel_format.name for pixel_format in formats.all_formats()}
    source = layout.source(part.facts["format"]) if layout is not None and part is not None else None
    _, meanings = source or (None, None)
    return [str(name) for name in (meanings or {}).values() if name in known]


def can_write(container: str) -> bool:
    """Whether a texture of this container can be written again."""
    return container not in images.TYPES or container in images.WRITABLE or container == "jpeg"
