"""Files that lie as they are: whether one begins at a place, and where it ends, by its own header and structure.

Each function gets what lies from the sign on and returns the file's length, or None where it is none.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable
from functools import cache

import numpy as np

from brae.core.signs.view import View

#: steps of a structure (chunks, segments, pages) that are followed
_STEPS = 1_000_000
_SIDE = 1 << 16

End = Callable[[View], int | None]


def png(view: View) -> int | None:
    """PNG (third edition, 5.3: length, type, data, CRC), from IHDR to IEND."""
    head = view.read(8, 25)
    if (
        len(head) < 25
        or head[:8] != b"\0\0\0\rIHDR"
        or zlib.crc32(head[4:21]) != int.from_bytes(head[21:25], "big")
    ):
        return None
    at = 8
    for _ in range(_STEPS):
        chunk = view.numbers(">I4s", at)
        if chunk is None or not chunk[1].isalpha() or chunk[0] > view.size - at - 12:
            return None
        at += 12 + int(chunk[0])
        if chunk[1] == b"IEND":
            return at
    return None


def gif(view: View) -> int | None:
    """GIF (89a specification): screen, blocks, trailer."""
    head = view.read(0, 13)
    if len(head) < 13 or head[:6] not in (b"GIF87a", b"GIF89a"):
        return None
    at = 13 + (3 << (head[10] & 7) + 1 if head[10] & 0x80 else 0)
    for _ in range(_STEPS):
        mark = view.read(at, 10)
        if mark[:1] == b";":
            return at + 1
        if mark[:1] == b"!":
            at += 2
        elif mark[:1] == b"," and len(mark) == 10:
            at += 11 + (3 << (mark[9] & 7) + 1 if mark[9] & 0x80 else 0)
        else:
            return None
        for _ in range(_STEPS):
            size = view.read(at, 1)
            if not size:
                return None
            at += 1 + size[0]
            if not size[0]:
                break
    return None


def jpeg(view: View) -> int | None:
    """JPEG (ITU-T T.81, B.1): segments, and the coded data behind each SOS up to the next marker."""
    at, seen = 2, False
    for _ in range(_STEPS):
        mark = view.read(at, 4)
        if len(mark) < 2 or mark[0] != 0xFF:
            return None
        kind = mark[1]
        if kind == 0xFF:
            at += 1
            continue
        if kind == 0xD9:
            return at + 2 if seen else None
        if len(mark) < 4 or kind < 0xC0 or 0xD0 <= kind <= 0xD8:
            return None
        at += 2 + int.from_bytes(mark[2:], "big")
        if kind != 0xDA:
            continue
        seen = True
        while True:
            at = view.find(b"\xff", at, view.size)
            follows = view.read(at + 1, 1) if at >= 0 else b""
            if not follows:
                return None
            # A zero is stuffed, and restart markers belong to the data.
            if follows[0] and not 0xD0 <= follows[0] <= 0xD7:
                break
            at += 2
    return None


def bmp(view: View) -> int | None:
    """BMP (BITMAPFILEHEADER and BITMAPINFOHEADER of the Windows API)."""
    head = view.numbers("<HIIIIiiHHI", 0)
    if head is None:
        return None
    _, stated, reserved, pixels, header, width, height, planes, bits, packing = head
    if reserved or header not in (40, 52, 56, 64, 108, 124) or planes != 1 or bits not in (1, 4, 8, 16, 24, 32):
        return None
    if not (0 < width < _SIDE and 0 < abs(height) < _SIDE and 14 + header <= pixels < view.size and packing <= 6):
        return None
    if packing in (0, 3, 6):
        least = pixels + (width * bits + 31) // 32 * 4 * abs(height)
        size = stated if least <= stated <= least + 4096 else least
    else:
        size = stated
    return size if pixels < size <= view.size else None


def riff(view: View) -> int | None:
    """RIFF (Multimedia Programming Interface and Data Specifications 1.0): WAVE and WebP."""
    head = view.numbers("<4sI4s4s", 0)
    if head is None or head[2] not in (b"WAVE", b"WEBP") or not 20 <= head[1] + 8 <= view.size:
        return None
    end, at = 8 + int(head[1]), 12
    first = head[3]
    if head[2] == b"WEBP":
        return end + end % 2 if first in (b"VP8 ", b"VP8L", b"VP8X") and end + end % 2 <= view.size else None
    names = set()
    while at + 8 <= end:
        chunk = view.numbers("<4sI", at)
        if chunk is None or at + 8 + chunk[1] > end:
            return None
        names.add(chunk[0])
        at += 8 + int(chunk[1]) + int(chunk[1]) % 2
    return end if {b"fmt ", b"data"} <= names else None


def ogg(view: View) -> int | None:
    """Ogg (RFC 3533, section 6): pages until every logical stream that began has ended."""
    at, going = 0, set()
    for page in range(_STEPS):
        head = view.numbers("<4sBBqIIIB", at)
        if head is None or head[0] != b"OggS" or head[1] or head[2] > 7:
            return None
        sizes = view.read(at + 27, head[7])
        size = 27 + len(sizes) + sum(sizes)
        if len(sizes) < head[7] or at + size > view.size:
            return None
        if page == 0 and not head[2] & 2:
            return None
        if head[2] & 2:
            going.add(head[4])
        if head[4] not in going:
            return None
        if head[2] & 4:
            going.discard(head[4])
        at += size
        if not going:
            return at if page else None
    return None


@cache
def _crc_tables() -> tuple[bytes, np.ndarray]:
    """CRC-8 (polynomial 7) and CRC-16 (polynomial 0x8005), as FLAC has them (RFC 9639, 9.1.8 and 9.3)."""
    eight, sixteen = [], []
    for byte in range(256):
        low, high = byte, byte << 8
        for _ in range(8):
            low = (low << 1 ^ (7 if low & 0x80 else 0)) & 0xFF
            high = (high << 1 ^ (0x8005 if high & 0x8000 else 0)) & 0xFFFF
        eight.append(low)
        sixteen.append(high)
    return bytes(eight), np.array(sixteen, np.uint32)


def _flac_frame(data: bytes) -> tuple[int, int] | None:
    """Number (of the frame or its first sample) and samples, by a frame's header (RFC 9639, 9.1)."""
    if len(data) < 6 or data[0] != 0xFF or data[1] & 0xFC != 0xF8:
        return None
    block, rate = data[2] >> 4, data[2] & 15
    lead = data[4]
    more = 0 if lead < 0x80 else next((n - 1 for n in range(2, 8) if lead >> (7 - n) == (1 << n + 1) - 2), 9)
    if more == 9 or not block or rate == 15 or data[3] >> 4 > 10:
        return None
    number = lead & (0x7F if more == 0 else (1 << 6 - more) - 1)
    for byte in data[5 : 5 + more]:
        number = number << 6 | byte & 0x3F
    at = 5 + more
    if block in (6, 7):
        samples = int.from_bytes(data[at : at + block - 5], "big") + 1
        at += block - 5
    else:
        samples = 192 if block == 1 else 576 << block - 2 if block < 6 else 256 << block - 8
    at += {12: 1, 13: 2, 14: 2}.get(rate, 0)
    if len(data) <= at:
        return None
    table, total = _crc_tables()[0], 0
    for byte in data[:at]:
        total = table[total ^ byte]
    return (number, samples) if total == data[at] else None


def flac(view: View) -> int | None:
    """FLAC (RFC 9639): metadata blocks, then frames that follow one another, up to the last one's checksum."""
    from brae.core.signs import kernels

    at, total, smallest, largest = 4, 0, 0, 0
    for _ in range(1000):
        block = view.read(at, 4)
        if len(block) < 4 or block[0] & 0x7F == 127:
            return None
        if at == 4:
            info = view.read(8, 34)
            if block[0] & 0x7F or len(info) < 34:
                return None
            smallest, largest = int.from_bytes(info[4:7], "big"), int.from_bytes(info[7:10], "big")
            total = int.from_bytes(info[13:18], "big") & (1 << 36) - 1
        at += 4 + int.from_bytes(block[1:], "big")
        if block[0] & 0x80:
            break
    reach = (largest or 1 << 20) + 16
    frame = _flac_frame(view.read(at, 20))
    if frame is None:
        return None
    done, by_sample = frame[1], bool(view.read(at + 1, 1)[0] & 1)
    while not total or done < total:
        start, after = at + max(smallest, 6), None
        while after is None:
            start = view.find(b"\xff", start, at + reach - start)
            if start < 0:
                break
            found = _flac_frame(view.read(start, 20))
            if found is not None and found[0] == (done if by_sample else frame[0] + 1):
                after = found
            else:
                start += 1
        if after is None:
            break
        at, frame, done = start, after, done + after[1]
    if total and done < total:
        return None
    data = np.frombuffer(view.read(at, min(reach, view.size - at)), np.uint8)
    places = np.empty(64, np.int64)
    ends = [
        at + int(one) for one in places[: kernels.flac_ends(data, 0, _crc_tables()[1], places)] if one >= smallest
    ]
    return ends[0] if len(ends) == 1 else next((end for end in ends if _decodes(view, end, total)), None)


def _decodes(view: View, end: int, total: int) -> bool:
    """Whether a FLAC file that ends there can be read to its last sample."""
    import io

    import soundfile

    try:
        samples, _ = soundfile.read(io.BytesIO(view.read(0, end)), dtype="int32")
    except (soundfile.SoundFileError, RuntimeError):
        return False
    return not total or len(samples) == total


def glb(view: View) -> int | None:
    """glTF binary (glTF 2.0, 4.4): length in the header, a JSON chunk first."""
    head = view.numbers("<4sIIII", 0)
    if head is None or head[1] != 2 or head[4] != 0x4E4F534A or not 20 + head[3] <= head[2] <= view.size:
        return None
    return int(head[2])


def ktx2(view: View) -> int | None:
    """KTX2 (Khronos KTX File Format Specification 2.0, 3.1): the end of the last of all that its index names."""
    head = view.numbers("<12s13I2Q", 0)
    if head is None or head[0] != b"\xabKTX 20\xbb\r\n\x1a\n":
        return None
    width, height, depth, _, faces, levels, scheme = head[3:10]
    if (
        not 0 < width <= _SIDE
        or height > _SIDE
        or depth > _SIDE
        or faces not in (1, 6)
        or levels > 32
        or scheme > 3
    ):
        return None
    ends = [80, head[10] + head[11], head[12] + head[13], head[14] + head[15]]
    for level in range(max(1, levels)):
        place = view.numbers("<3Q", 80 + 24 * level)
        if place is None:
            return None
        ends.append(place[0] + place[1])
    return int(max(ends)) if max(ends) <= view.size else None


#: bits of a pixel of the DXGI formats (Microsoft, DXGI_FORMAT), first and last number; blocks as (bits of a block)
_DXGI_BITS = (
    (1, 4, 128), (5, 8, 96), (9, 22, 64), (23, 47, 32), (48, 59, 16), (60, 65, 8), (67, 69, 32), (85, 86, 16),
    (87, 93, 32), (115, 115, 16),
)  # fmt: skip
_DXGI_BLOCKS = ((70, 72, 8), (73, 78, 16), (79, 81, 8), (82, 84, 16), (94, 99, 16))
_FOUR_CC_BLOCKS = {b"DXT1": 8, b"ATI1": 8, b"BC4U": 8, b"BC4S": 8} | dict.fromkeys(
    (
        b"DXT2", b"DXT3", b"DXT4", b"DXT5", b"ATI2", b"BC5U", b"BC5S", b"RXGB", b"xGBR", b"xGxR", b"RxBG", b"RBxG",
        b"xRBG", b"RGxB",
    ),
    16,
)  # fmt: skip
_FOUR_CC_BITS = {36: 64, 81: 16, 110: 64, 111: 16, 112: 32, 113: 64, 114: 32, 115: 64, 116: 128}


def dds(view: View) -> int | None:
    """DDS (Microsoft, "Programming Guide for DDS"): header, then as many levels and pictures as it says."""
    head = view.numbers("<4s7I44x2I4s6I3I", 0)
    if head is None or head[1] != 124 or head[8] != 32:
        return None
    _, _, _, height, width, _, depth, levels = head[:8]
    pixel_flags, four_cc, bits, caps2 = head[9], head[10], head[11], head[17]
    if not (0 < width <= _SIDE and 0 < height <= _SIDE):
        return None
    start, pictures, block = 128, 6 if caps2 & 0x200 else 1, 0
    if caps2 & 0x200 and caps2 & 0xFC00:
        pictures = (caps2 & 0xFC00).bit_count()
    if pixel_flags & 4 and four_cc == b"DX10":
        more = view.numbers("<5I", 128)
        if more is None or more[1] not in (2, 3, 4) or not 0 < more[3] <= 4096:
            return None
        start = 148
        pictures = more[3] * (6 if more[2] & 4 else 1)
        bits = next((size for first, last, size in _DXGI_BITS if first <= more[0] <= last), 0)
        block = next((size for first, last, size in _DXGI_BLOCKS if first <= more[0] <= last), 0)
    elif pixel_flags & 4:
        block = _FOUR_CC_BLOCKS.get(four_cc, 0)
        bits = 0 if block else _FOUR_CC_BITS.get(int.from_bytes(four_cc, "little"), 0)
        bits = 16 if four_cc in (b"YUY2", b"UYVY") else bits
    if not block and bits not in (8, 16, 24, 32, 48, 64, 96, 128):
        return None
    depth = max(1, depth) if caps2 & 0x200000 else 1

    def size(count: int) -> int:
        total, sides = 0, (width, height, depth)
        for _ in range(count):
            w, h, d = sides
            total += d * ((w + 3) // 4 * ((h + 3) // 4) * block if block else (w * bits + 7) // 8 * h)
            sides = (max(1, w // 2), max(1, h // 2), max(1, d // 2))
        return start + pictures * total

    most = max(width, height, depth).bit_length()
    wanted = levels if 1 < levels <= most else 1
    # A count without its flag holds where there are as many bytes; a chain that is cut short is what is there.
    return next((size(count) for count in (wanted, 1) if size(count) <= view.size), None)


def font(view: View) -> int | None:
    """TrueType and OpenType (ISO/IEC 14496-22, 4.3): the end of the last table; tags in order."""
    head = view.numbers(">4sHHHH", 0)
    if head is None:
        return None
    if head[0] == b"ttcf":
        count = view.numbers(">I", 8)
        fonts = view.numbers(f">{count[0]}I", 12) if count and 0 < count[0] < 100 else None
        ends = [_tables_end(view, at) for at in fonts or ()]
        return max(end for end in ends if end) if ends and all(ends) else None
    return _tables_end(view, 0)


def _tables_end(view: View, start: int) -> int | None:
    head = view.numbers(">4sHHHH", start)
    if head is None or not 4 <= head[1] <= 64 or head[2] != 16 << head[1].bit_length() - 1:
        return None
    end, before = int(start + 12 + 16 * head[1]), b""
    for number in range(head[1]):
        table = view.numbers(">4s3I", start + 12 + 16 * number)
        if table is None or table[0] < before or not all(32 <= byte < 127 for byte in table[0]):
            return None
        before = table[0]
        end = max(end, int(table[2] + table[3]))
    if end > view.size:
        return None
    # Tables are padded to four bytes; the last one mostly is too.
    pad = -end % 4
    return end + pad if view.read(end, pad) == bytes(pad) and end + pad <= view.size else end


def woff(view: View) -> int | None:
    """WOFF 1 and 2 (W3C): length in the header."""
    head = view.numbers(">4s4sIHH", 0)
    known = (b"\0\1\0\0", b"OTTO", b"true", b"ttcf")
    if head is None or head[1] not in known or head[4] or not 44 < head[2] <= view.size or not 0 < head[3] < 256:
        return None
    return int(head[2])


_TIFF_SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 1, 7: 1, 8: 2, 9: 4, 10: 8, 11: 4, 12: 8, 13: 4}


def tiff(view: View) -> int | None:
    """TIFF (revision 6.0, section 2): the end of the last of directories, values, strips and tiles."""
    order = "<" if view.read(0, 2) == b"II" else ">"
    head = view.numbers(order + "2xHI", 0)
    if head is None or head[0] != 42:
        return None
    at, end, pages = int(head[1]), 8, 0
    places: dict[int, list[int]] = {}
    while at and pages < 1000:
        count = view.numbers(order + "H", at)
        if at < 8 or count is None or not 3 <= count[0] <= 4096:
            return None
        seen: dict[int, list[int]] = {}
        for number in range(count[0]):
            entry = view.numbers(order + "HHI4s", at + 2 + 12 * number)
            if entry is None or entry[1] not in _TIFF_SIZES:
                return None
            tag, kind, many, value = entry
            size = _TIFF_SIZES[kind] * many
            where = at + 2 + 12 * number + 8
            if size > 4:
                where = struct.unpack(order + "I", value)[0]
                if where + size > view.size:
                    return None
                end = max(end, where + size)
            if tag in (273, 279, 324, 325, 256, 257) and kind in (3, 4) and many < 1 << 20:
                found = view.numbers(f"{order}{many}{'H' if kind == 3 else 'I'}", where)
                seen[tag] = list(found or ())
        if not seen.get(256) or not seen.get(257):
            return None
        for starts, sizes in ((273, 279), (324, 325)):
            places.setdefault(0, []).extend(
                start + size for start, size in zip(seen.get(starts, ()), seen.get(sizes, ()), strict=False)
            )
        after = at + 2 + 12 * count[0]
        end = max(end, after + 4)
        following = view.numbers(order + "I", after)
        at = int(following[0]) if following else 0
        pages += 1
    if not places.get(0):
        return None
    end = max(end, *places[0])
    return int(end) if end <= view.size else None
