"""Pictures of open formats, as editors save and open them: PNG, BMP, TGA, TIFF, WebP, HDR, EXR."""

from __future__ import annotations

import io
import struct
import zlib
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import imagecodecs
import numpy as np
from PIL import Image
from PIL.JpegImagePlugin import JpegImageFile, get_sampling

from brae.core.assets.texture import formats, psd
from brae.core.assets.texture.formats import Picture, Precision, precision_of
from brae.core.errors import BraeError, FormatError, LimitError, ShortError, UnknownFormatError

Image.MAX_IMAGE_PIXELS = formats.LARGEST_SIDE**2

_MAGIC = {
    b"\x89PNG\r\n\x1a\n": "png",
    b"BM": "bmp",
    b"GIF8": "gif",
    b"\xff\xd8\xff": "jpeg",
    b"II*\0": "tiff",
    b"MM\0*": "tiff",
    b"#?RADIANCE": "hdr",
    b"#?RGBE": "hdr",
    b"\x76\x2f\x31\x01": "exr",
}
TYPES = ("png", "bmp", "tga", "tiff", "webp", "hdr", "exr", "gif", "jpeg")
#: those whose size depends on what is in the picture
PACKED_TYPES = ("png", "tiff", "webp", "exr", "gif", "jpeg", "hdr")
#: what can be written, and the finest depth each can hold
WRITABLE: dict[str, Precision] = {
    "png": "16", "bmp": "8", "tga": "8", "tiff": "float", "webp": "8", "hdr": "float", "exr": "float",
}  # fmt: skip
_TGA_FOOTER = b"TRUEVISION-XFILE."


@dataclass(frozen=True)
class ImageFile:
    """A picture of an open format, as an editor saved it."""

    picture: Picture
    type: str
    mode: str
    has_alpha: bool
    bits: int
    #: mip levels in the file itself
    levels: int = 1
    #: what it says about its colours: an ICC profile, a gamma other than sRGB's
    profile: bool = False
    gamma: float | None = None
    #: bytes behind the picture, which some editors append
    appended: int = 0
    #: in words, a colour space that it says and that is not sRGB
    space: str | None = None
    #: how it was packed, in words, where that loses something
    lossy: str | None = None
    #: how many pictures it holds: pages, or frames of an animation
    pictures: int = 1


#: a PNG's last chunk: no bytes, its name, and the checksum of that (PNG, third edition, 11.2.5)
_PNG_END = b"\0\0\0\0IEND\xaeB`\x82"


def appended(data: bytes, kind: str) -> int:
    """How many bytes stand behind the picture of a file: behind a PNG's last chunk, a BMP's stated size, or in the
    extension area and footer of a TGA (Truevision 2.0); 0 where the format does not tell.
    """
    if kind == "png":
        last = data.find(_PNG_END)
        return len(data) - last - len(_PNG_END) if last >= 0 else 0
    if kind == "bmp" and len(data) >= 6:
        stated = int(struct.unpack_from("<I", data, 2)[0])
        return len(data) - stated if 54 <= stated < len(data) else 0
    if kind == "tga" and data[-18:-1] == _TGA_FOOTER:
        areas = struct.unpack("<2I", data[-26:-18])
        begin = min((at for at in areas if 18 <= at < len(data) - 26), default=len(data) - 26)
        return len(data) - begin
    return 0


def _is_tga(head: bytes) -> bool:
    """Whether the first 18 bytes can be a TGA header (Truevision, "TGA File Format Specification" 2.0)."""
    if len(head) < 18:
        return False
    colour_map, kind, depth, descriptor = head[1], head[2], head[16], head[17]
    width, height = struct.unpack("<HH", head[12:16])
    mapped = kind in (1, 9)
    depths = (8,) if mapped or kind in (3, 11) else (15, 16, 24, 32)
    known = kind in (1, 2, 3, 9, 10, 11) and colour_map == (1 if mapped else 0)
    # Without a magic: every field has to be sensible, and a picture without a colour map says nothing about one.
    plain = mapped or not any(head[3:8])
    return known and plain and depth in depths and width > 0 < height and descriptor & 0xC0 == 0


def image_type(head: bytes, tail: bytes = b"") -> str | None:
    """The open picture format of a file's first bytes; ``tail`` its last 26, by which TGA files are known."""
    if head[:4] == b"RIFF" and head[8:12] == b"WEBP":
        return "webp"
    found = next((name for magic, name in _MAGIC.items() if head.startswith(magic)), None)
    if found is None and tail[-18:-1] == _TGA_FOOTER and _is_tga(head):
        return "tga"
    return found


def type_of(head: bytes, tail: bytes, name: str) -> str:
    """The same; UnknownFormatError where the bytes are no picture. ``name`` may tell an old TGA file."""
    kind = image_type(head, tail)
    if kind is None and name.lower().endswith(".tga") and _is_tga(head[:18]):
        kind = "tga"
    # Only as what an editor saved: a game's own would have to be written again.
    if kind is None and head[:4] == psd.MAGIC:
        kind = "psd"
    if kind is None:
        raise UnknownFormatError(
            "This is not a picture that Brae reads." if head else "The file is empty.",
            offset=0,
            expected="PNG, DDS, KTX2, BMP, TGA, TIFF, WebP, HDR, EXR, GIF, JPEG, PSD",
            remedy="Save it as PNG.",
        )
    return kind


def read(data: bytes, name: str = "") -> ImageFile:
    """A picture that any image program saved; its type is told by its bytes, not by its name.

    Only TGA files of the old kind, which have no mark, need a ``name`` that ends in .tga. Raises FormatError for
    damage, LimitError for absurd sides.
    """
    kind = type_of(data[:32], data[-26:], name)
    try:
        wide = {
            "png": _read_wide_png,
            "psd": _read_psd,
            "hdr": _read_hdr,
            "exr": _read_exr,
            "tiff": _read_wide_tiff,
        }.get(kind)
        found = (wide(data) if wide is not None else None) or _read_by_pillow(data, kind)
        picture = _upright(found.picture, _turn(data, kind))
        return replace(found, picture=picture, appended=appended(data, kind), **_said(data, kind, found))
    except BraeError:
        raise
    except Image.DecompressionBombError as error:
        raise LimitError(
            "The picture is absurdly large.", expected=f"dimensions up to {formats.LARGEST_SIDE}"
        ) from error
    except (
        OSError, ValueError, SyntaxError, EOFError, struct.error, IndexError, KeyError, TypeError, MemoryError,
        OverflowError, RuntimeError, imagecodecs.PngError, imagecodecs.RgbeError,
    ) as error:  # fmt: skip
        raise FormatError(
            f"The {kind.upper()} file is damaged or not complete ({error}).", remedy="Save it again."
        ) from error


#: the primaries of sRGB (IEC 61966-2-1), as a PNG's cHRM chunk has them: white, red, green, blue
_SRGB_PRIMARIES = (31270, 32900, 64000, 33000, 30000, 60000, 15000, 6000)
#: code points of ITU-T H.273 that are sRGB: primaries, transfer, matrix
_SRGB_POINTS = (1, 13, 0)


def _read_psd(data: bytes) -> ImageFile:
    picture, mode, alpha, bits = psd.read(data)
    return ImageFile(picture, "psd", mode, alpha, bits)


def _said(data: bytes, kind: str, found: ImageFile) -> dict[str, Any]:
    """What a file says of its colours, how it was packed, and how many pictures it holds."""
    said: dict[str, Any] = {}
    if kind == "png":
        said |= _png_colours(_chunks(data), found)
    if kind in ("hdr", "exr", "bmp", "tga", "psd"):
        return said
    try:
        with Image.open(io.BytesIO(data), formats=[kind]) as image:
            said["pictures"] = int(getattr(image, "n_frames", 1))
            packed = str(image.info.get("compression", ""))
    except (OSError, ValueError, SyntaxError, TypeError, struct.error):
        return said  # another reader took it
    if kind == "webp" and b"VP8 " in _riff_chunks(data):
        said["lossy"] = "lossy WebP"
    if kind == "tiff" and packed in ("jpeg", "tiff_jpeg", "webp"):
        said["lossy"] = f"{packed.removeprefix('tiff_').upper()} within a TIFF"
    return said


def _png_colours(chunks: dict[bytes, bytes], found: ImageFile) -> dict[str, Any]:
    """PNG, third edition, 4.3: cICP is believed before iCCP, that before sRGB, that before gAMA and cHRM."""
    points = chunks.get(b"cICP", b"")
    if len(points) == 4:
        known = tuple(points[:3]) == _SRGB_POINTS
        space = None if known else f"code points {points[0]}-{points[1]}-{points[2]} (ITU-T H.273)"
        return {"space": space, "profile": False, "gamma": None}
    if b"iCCP" in chunks:
        return {"profile": True, "gamma": None}
    if b"sRGB" in chunks:
        return {"profile": False, "gamma": None}
    primaries = chunks.get(b"cHRM", b"")
    if len(primaries) == 32:
        numbers = struct.unpack(">8I", primaries)
        far = max(abs(one - other) for one, other in zip(numbers, _SRGB_PRIMARIES, strict=True))
        if far > _NEAR_PRIMARIES:
            return {"space": "primaries of its own (cHRM)"}
    return {"gamma": found.gamma}


#: how far a primary may be from sRGB's and still be it, in hundred-thousandths
_NEAR_PRIMARIES = 300


def _riff_chunks(data: bytes) -> list[bytes]:
    """The names of a RIFF file's chunks, those of animation frames too (RFC 9649, 2.3 and 2.7.1.1)."""
    found: list[bytes] = []
    todo = [(12, len(data))]
    while todo:
        at, end = todo.pop()
        while at + 8 <= end and len(found) < 4096:
            name, size = data[at : at + 4], int(struct.unpack_from("<I", data, at + 4)[0])
            found.append(name)
            if name == b"ANMF":
                todo.append((at + 8 + 16, min(at + 8 + size, end)))
            at += 8 + size + size % 2
    return found


def _turn(data: bytes, kind: str) -> int:
    """How a picture is to be shown, 1 to 8 (Exif 2.32, tag 274, Orientation); 1 where it does not say.

    Of a TIFF its reader sees to that.
    """
    if kind not in ("jpeg", "png", "webp"):
        return 1
    try:
        with Image.open(io.BytesIO(data), formats=[kind]) as image:
            return int(image.getexif().get(274, 1))
    except (OSError, ValueError, SyntaxError, TypeError, struct.error):
        return 1


def _upright(picture: Picture, turn: int) -> Picture:
    """A picture as its file says that it is to be shown (Exif 2.32, 4.6.4.A, Orientation)."""
    if turn in (5, 6, 7, 8):  # the first stored row is a column
        picture = picture.transpose(1, 0, 2)
    if turn in (2, 3, 6, 7):  # it begins at the right
        picture = picture[:, ::-1]
    if turn in (3, 4, 7, 8):  # it begins at the bottom
        picture = picture[::-1]
    return np.ascontiguousarray(picture)


def _read_by_pillow(data: bytes, kind: str) -> ImageFile:
    with Image.open(io.BytesIO(data), formats=[kind]) as image:
        formats.check_size(*image.size)
        mode = image.mode
        gamma = image.info.get("gamma")
        alpha = mode in ("RGBA", "LA", "PA", "RGBa", "La") or "transparency" in image.info
        profile = bool(image.info.get("icc_profile"))
        if mode in ("I;16", "I;16B", "I", "F"):
            wide = np.asarray(image).astype(np.float64)
            grey = wide.clip(0, 65535).astype(np.uint16) if mode != "F" else wide.astype(np.float32)
            return ImageFile(_rgba(grey), kind, mode, False, 16 if mode != "F" else 32, 1, profile, gamma)
        return ImageFile(np.array(image.convert("RGBA")), kind, mode, alpha, 8, 1, profile, gamma)


def _rgba(stored: np.ndarray) -> Picture:
    """Grey, grey and alpha, RGB or RGBA of any depth as RGBA."""
    if stored.ndim == 2:
        stored = stored[..., None]
    opaque = 1 if stored.dtype == np.float32 else np.iinfo(stored.dtype).max
    picture = np.full((*stored.shape[:2], 4), opaque, stored.dtype)
    count = stored.shape[2]
    picture[..., :3] = stored[..., :3] if count >= 3 else stored[..., :1]
    if count in (2, 4):
        picture[..., 3] = stored[..., count - 1]
    return picture


def _chunks(data: bytes) -> dict[bytes, bytes]:
    """The PNG chunks before the pixels."""
    found, at = {}, 8
    while at + 8 <= len(data):
        (size,) = struct.unpack_from(">I", data, at)
        kind = data[at + 4 : at + 8]
        if kind == b"IDAT":
            break
        found[kind] = data[at + 8 : at + 8 + size]
        at += 12 + size
    return found


def _read_wide_png(data: bytes) -> ImageFile | None:
    """A PNG of 16 bits, which Pillow would narrow; None for others."""
    if data[24:25] != b"\x10":
        return None
    formats.check_size(*struct.unpack(">II", data[16:24]))
    before = _chunks(data)
    stored = imagecodecs.png_decode(data)
    channels = 1 if stored.ndim == 2 else stored.shape[2]
    mode = {1: "L", 2: "LA", 3: "RGB", 4: "RGBA"}[channels]
    gamma = struct.unpack(">I", before[b"gAMA"])[0] / 100_000 if len(before.get(b"gAMA", b"")) == 4 else None
    return ImageFile(_rgba(stored), "png", f"{mode};16", channels in (2, 4), 16, 1, b"iCCP" in before, gamma)


def _read_hdr(data: bytes) -> ImageFile:
    """Radiance HDR: three mantissas and an exponent a pixel."""
    sides = [line for line in data[:4096].split(b"\n") if line[:2] in (b"-Y", b"+Y")]
    if not sides:
        raise FormatError("The HDR file does not say its dimensions, or its rows lie in an order that is not read.")
    words = sides[0].split()
    formats.check_size(int(words[3]), int(words[1]))
    stored = imagecodecs.rgbe_decode(data)
    return ImageFile(_rgba(np.ascontiguousarray(stored, np.float32)), "hdr", "RGBE", False, 32)


def _read_exr(data: bytes) -> ImageFile:
    """OpenEXR: half or single floats."""
    import OpenEXR

    with OpenEXR.File(io.BytesIO(data)) as file:
        channels = file.channels()
        first = next((name for name in ("RGBA", "RGB", "Y") if name in channels), None)
        if first is None:
            raise UnknownFormatError("The EXR file has no channels R, G, B or Y.", expected="RGB or RGBA")
        stored = np.asarray(channels[first].pixels, np.float32)
    formats.check_size(stored.shape[1], stored.shape[0])
    return ImageFile(_rgba(stored), "exr", first, stored.ndim == 3 and stored.shape[2] == 4, 32)


def _read_wide_tiff(data: bytes) -> ImageFile | None:
    """A TIFF of 16 bits or floats; None for others, which Pillow reads."""
    import tifffile

    with tifffile.TiffFile(io.BytesIO(data)) as file:
        page: Any = file.pages[0]
        kind = np.dtype(page.dtype) if page.dtype is not None else np.dtype("u1")
        if kind.name not in ("uint16", "float32", "float16") or page.ndim not in (2, 3):
            return None
        formats.check_size(int(page.imagewidth), int(page.imagelength))
        stored = page.asarray()
        if stored.ndim == 3 and page.planarconfig == tifffile.PLANARCONFIG.SEPARATE:
            stored = np.moveaxis(stored, 0, 2)
        turn = page.tags.get(274)
    stored = stored.astype(np.float32) if kind.kind == "f" else stored.astype(np.uint16)
    if stored.ndim == 3 and stored.shape[2] > 4:
        return None
    channels = 1 if stored.ndim == 2 else stored.shape[2]
    picture = _upright(_rgba(stored), int(turn.value) if turn is not None else 1)
    return ImageFile(picture, "tiff", f"{kind.name} x {channels}", channels in (2, 4), 8 * kind.itemsize)


def write(picture: Picture, kind: str = "png", *, alpha: bool = True, quick: bool = False) -> bytes:
    """A picture as a file of an open format; ``quick`` favours time over size.

    What the format cannot hold is narrowed: 16 bits and floats to 8 in BMP, TGA and WebP, floats to 16 bits in PNG.
    """
    if kind not in WRITABLE:
        raise UnknownFormatError(f"Pictures are not written as {kind}.", expected=", ".join(WRITABLE))
    depth, most = precision_of(picture), WRITABLE[kind]
    if most == "8" or (most == "16" and depth == "float"):
        picture = formats.as_precision(picture, most)
        depth = most
    writer: Callable[[Picture, bool], bytes] | None = {"hdr": _write_hdr, "exr": _write_exr}.get(kind)
    if writer is not None:
        return writer(formats.as_precision(picture, "float"), alpha)
    if depth != "8":
        return _write_wide_tiff(picture, alpha) if kind == "tiff" else _write_wide_png(picture, alpha)
    if kind == "png" and quick:
        return _quick_png(picture)
    image = Image.fromarray(np.ascontiguousarray(picture))
    # Pillow writes 32-bit BMP files without an alpha mask, which many programs then drop.
    if not alpha or kind == "bmp":
        image = image.convert("RGB")
    stream = io.BytesIO()
    image.save(stream, kind, **({"lossless": True, "exact": True} if kind == "webp" else {}))
    return stream.getvalue()


def write_jpeg_like(picture: Picture, original: bytes) -> bytes:
    """A JPEG file with the quantisation, sampling, order and notes of another: it loses as much, and no more.

    Raises FormatError where the other has colours that are not written (CMYK).
    """
    with Image.open(io.BytesIO(original), formats=["jpeg"]) as like:
        assert isinstance(like, JpegImageFile)
        tables, sampling = like.quantization, get_sampling(like)
        mode, progressive = like.mode, bool(like.info.get("progressive"))
        exif, profile = like.getexif(), like.info.get("icc_profile")
    if mode not in ("L", "RGB"):
        raise FormatError(f"JPEG files of {mode} colours are read, but not written.")
    exif.pop(274, None)  # the picture lies as it is shown
    stream = io.BytesIO()
    Image.fromarray(np.ascontiguousarray(formats.as_precision(picture, "8")[..., :3])).convert(mode).save(
        stream,
        "jpeg",
        qtables=tables,
        progressive=progressive,
        optimize=True,
        **({"subsampling": sampling} if sampling >= 0 else {}),
        **({"exif": exif.tobytes()} if len(exif) else {}),
        **({"icc_profile": profile} if profile else {}),
    )
    return stream.getvalue()


def _write_wide_png(picture: Picture, alpha: bool) -> bytes:
    stored = np.ascontiguousarray(picture if alpha else picture[..., :3])
    if stored.shape[:2] == (1, 1):
        return _single_pixel_png(stored[0, 0])
    return bytes(imagecodecs.png_encode(stored, level=3))


def _single_pixel_png(pixel: np.ndarray) -> bytes:
    """One pixel of 16 bits a channel (PNG, third edition, 11.2.1): a row with its filter in front."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    header = struct.pack(">IIBBBBB", 1, 1, 16, 6 if len(pixel) == 4 else 2, 0, 0, 0)
    row = zlib.compress(b"\0" + pixel.astype(">u2").tobytes())
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", row) + _PNG_END


def _write_wide_tiff(picture: Picture, alpha: bool) -> bytes:
    import tifffile

    stream = io.BytesIO()
    stored = np.ascontiguousarray(picture if alpha else picture[..., :3])
    extra = ["unassalpha"] if alpha else None
    tifffile.imwrite(stream, stored, photometric="rgb", metadata=None, extrasamples=extra)
    return stream.getvalue()


def _write_hdr(picture: Picture, alpha: bool) -> bytes:
    return bytes(imagecodecs.rgbe_encode(np.ascontiguousarray(picture[..., :3].clip(0)), header=True))


def _write_exr(picture: Picture, alpha: bool) -> bytes:
    import tempfile
    from pathlib import Path

    import OpenEXR

    # The library writes to names only.
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "picture.exr"
        header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
        name, pixels = ("RGBA", picture) if alpha else ("RGB", picture[..., :3])
        with OpenEXR.File(header, {name: np.ascontiguousarray(pixels)}) as file:
            file.write(str(path))
        return path.read_bytes()


def _quick_png(picture: Picture) -> bytes:
    """A PNG (RFC 2083) with every row filtered by 'Sub': twice as fast as choosing a filter for each row.

    For the pictures of a page, of which there are hundreds at a time.
    """
    height, width = picture.shape[:2]
    rows = np.ones((height, 1 + 4 * width), np.uint8)
    filtered = rows[:, 1:].reshape(height, width, 4)
    filtered[:, 0] = picture[:, 0]
    filtered[:, 1:] = picture[:, 1:] - picture[:, :-1]

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    header = struct.pack(">IIBBBBB", width, height, 8, 6, 0, 0, 0)
    pixels = zlib.compress(rows.tobytes(), 1)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", pixels) + chunk(b"IEND", b"")


def is_picture(data: bytes, name: str = "") -> bool:
    """Whether a file (or its beginning) has the signs of an open picture format."""
    return image_type(data[:32], data[-26:]) is not None or (name.lower().endswith(".tga") and _is_tga(data[:18]))


def sniff(head: bytes, name: str = "") -> tuple[str, int, int, bool] | None:
    """Type, sides and whether there is alpha, from the first bytes; None where they are no picture.

    Raises ShortError where only more bytes would tell.
    """
    kind = image_type(head, head[-26:])
    if kind is None and name.lower().endswith(".tga") and _is_tga(head):
        kind = "tga"
    if kind is None:
        return None
    if kind == "png" and head[12:16] == b"IHDR" and len(head) >= 26:
        width, height = struct.unpack(">II", head[16:24])
        return "png", width, height, head[25] in (4, 6)
    if kind == "tga":
        return "tga", *struct.unpack("<HH", head[12:16]), head[16] == 32
    if kind == "hdr":
        lines = [line.split() for line in head.split(b"\n") if line[:2] in (b"-Y", b"+Y")]
        if lines and len(lines[0]) == 4:
            return "hdr", int(lines[0][3]), int(lines[0][1]), False
    if kind == "exr":
        return _sniff_exr(head)
    told = {"gif": _sniff_gif, "webp": _sniff_webp, "jpeg": _sniff_jpeg, "tiff": _sniff_tiff}.get(kind)
    if told is not None:
        return kind, *told(head)
    try:
        with Image.open(io.BytesIO(head), formats=[kind]) as image:
            return kind, *image.size, image.mode in ("RGBA", "LA", "PA")
    except (OSError, ValueError, SyntaxError, struct.error, IndexError, KeyError, TypeError):
        raise FormatError(f"The {kind.upper()} header is damaged.", offset=0) from None


def _sniff_gif(head: bytes) -> tuple[int, int, bool]:
    """GIF89a, 18 and 23: the logical screen, and whether the first control extension has a clear colour."""
    if len(head) < 13:
        raise FormatError("The GIF header is damaged.", offset=0)
    control = head.find(b"\x21\xf9\x04", 13)
    clear = 0 <= control < len(head) - 3 and bool(head[control + 3] & 1)
    return *struct.unpack("<HH", head[6:10]), clear


def _sniff_webp(head: bytes) -> tuple[int, int, bool]:
    """RFC 9649, 2.5 to 2.7: the canvas of an extended file, or the bitstream's own header."""
    kind, body = head[12:16], head[20:30]
    if kind == b"VP8X" and len(body) == 10:
        return 1 + int.from_bytes(body[4:7], "little"), 1 + int.from_bytes(body[7:10], "little"), bool(body[0] & 16)
    if kind == b"VP8L" and len(body) >= 5 and body[0] == 0x2F:
        bits = int.from_bytes(body[1:5], "little")
        return 1 + (bits & 0x3FFF), 1 + (bits >> 14 & 0x3FFF), bool(bits >> 28 & 1)
    if kind == b"VP8 " and len(body) == 10 and body[3:6] == b"\x9d\x01\x2a":
        width, height = struct.unpack("<HH", body[6:10])
        return width & 0x3FFF, height & 0x3FFF, False
    raise FormatError("The WEBP header is damaged.", offset=12)


def _sniff_tiff(head: bytes) -> tuple[int, int, bool]:
    """TIFF 6.0, sections 2 and 8: the first directory, anywhere in the file: sides, and whether there is alpha."""
    order = "<" if head[:2] == b"II" else ">"
    start = int(struct.unpack_from(f"{order}I", head, 4)[0]) if len(head) >= 8 else 0
    if start + 2 > len(head):
        raise ShortError("The TIFF file's directory does not stand in its first bytes.", offset=4)
    (count,) = struct.unpack_from(f"{order}H", head, start)
    if start + 2 + 12 * count > len(head):
        raise ShortError("The TIFF file's directory does not stand in its first bytes.", offset=start)
    said: dict[int, int] = {}
    for place in range(start + 2, start + 2 + 12 * count, 12):
        tag, kind = struct.unpack_from(f"{order}HH", head, place)
        said[tag] = int(struct.unpack_from(f"{order}{'H' if kind == 3 else 'I'}", head, place + 8)[0])
    if not said.get(256) or not said.get(257):
        raise FormatError("The TIFF directory does not say the picture's dimensions.", offset=start)
    # 338 (ExtraSamples): 1 and 2 are alpha.
    width, height, alpha = said[256], said[257], said.get(338) in (1, 2)
    return (height, width, alpha) if said.get(274, 1) > 4 else (width, height, alpha)


def _sniff_jpeg(head: bytes) -> tuple[int, int, bool]:
    """ITU-T T.81, B.1 and B.2.2: from marker to marker to the frame header."""
    at = 2
    while at + 9 <= len(head):
        if head[at] != 0xFF:
            raise FormatError("The JPEG header is damaged.", offset=at)
        marker = head[at + 1]
        if marker == 0xFF or marker == 1 or 0xD0 <= marker <= 0xD7:
            at += 1 if marker == 0xFF else 2
            continue
        if 0xC0 <= marker <= 0xCF and marker not in (0xC4, 0xC8, 0xCC):
            height, width = struct.unpack(">HH", head[at + 5 : at + 9])
            return width, height, False
        at += 2 + int(struct.unpack(">H", head[at + 2 : at + 4])[0])
    raise ShortError("The JPEG file's first bytes do not tell the picture's dimensions.", offset=0)


def _sniff_exr(head: bytes) -> tuple[str, int, int, bool]:
    """Sides and channels from the attributes dataWindow and channels.

    Source: OpenEXR, "File Layout": name, type, size, value; a channel is its name and 16 bytes.
    """
    window, channels = b"dataWindow\0box2i\0", b"channels\0chlist\0"
    at, listed = head.find(window), head.find(channels)
    if at < 0 or listed < 0 or at + len(window) + 20 > len(head):
        raise FormatError("The EXR header does not tell the picture's dimensions in its first bytes.", offset=0)
    left, top, right, bottom = struct.unpack_from("<4i", head, at + len(window) + 4)
    names, place = [], listed + len(channels) + 4
    while place < len(head) and head[place]:
        end = head.find(b"\0", place)
        if end < 0:
            break
        names.append(head[place:end])
        place = end + 17
    return "exr", right - left + 1, bottom - top + 1, b"A" in names
