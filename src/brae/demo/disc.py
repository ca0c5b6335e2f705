"""Makes the disc edition of Skerry Post: a raw disc image with one huge volume, in it a pack of menu screens.

The writers below are the game's own: they share nothing with the layouts by which Brae reads these files. The image
is mode 2 (CD-ROM XA) with an ISO 9660 file system (ECMA-119) written by hand: its bytes are always the same.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, Literal, TypeVar

import numpy as np
from PIL import Image

from brae.core.compression.described import LzssSpec, describe
from brae.demo import DISC, art, bank, strollers
from brae.demo.stamps import COUNT, stamps
from brae.jobs import Silent, Ticker

_Made = TypeVar("_Made")
_SILENT = Silent()
#: sectors encoded between two ticks
_PIECE = 1024
Picture = np.ndarray[Any, Any]
Region = Literal["north", "south"]
SCREENS, MEMBERS = 3000, 12_000
_SECTOR, _RAW = 2048, 2352
_SEED = 1898

#: what a press on a rectangle does
OPENS, BACK, SAILS = 0, 1, 2
#: what stands on the buttons of a menu
_WORDS = {"north": ["ROW", "MAIL", "TEA"], "south": ["SAIL", "POST", "SOUP"]}
#: letters of three by five pixels: five rows of three bits each
_FONT = {
    "A": "25755", "C": "34443", "E": "74647", "F": "74644", "I": "72227", "L": "44447", "M": "57755", "O": "25552",
    "P": "65644", "R": "65655", "S": "34216", "T": "72222", "U": "55557", "W": "55775", "0": "75557", "1": "26227",
    "2": "61247", "3": "61216", "4": "55711", "5": "74616", "6": "34757", "7": "71222", "8": "75757", "9": "75716",
}  # fmt: skip


def slate(picture: Picture, number: int, rectangles: Sequence[tuple[int, ...]] = ()) -> bytes:
    """A picture in the game's own format: red in the lowest five bits, the top bit set where it is opaque.

    A rectangle is left, top, width, height, the screen that it leads to, and what a press does (``OPENS`` ...).
    """
    height, width = picture.shape[:2]
    value = picture.astype(np.uint16)
    pixels = value[..., 0] >> 3 | value[..., 1] >> 3 << 5 | value[..., 2] >> 3 << 10
    pixels |= (value[..., 3] >= 128).astype(np.uint16) << 15
    head = struct.pack("<4sHHBBH", b"SLT1", width, height, 1, len(rectangles), number)
    return head + b"".join(struct.pack("<6H", *one) for one in rectangles) + pixels.astype("<u2").tobytes()


def _write(picture: Picture, words: str, x: int, y: int, colour: tuple[int, int, int]) -> None:
    for letter in words:
        for line, bits in enumerate(map(int, _FONT[letter])):
            for column in range(3):
                if bits >> (2 - column) & 1:
                    picture[y + line, x + column, :3] = colour
        x += 4


def _posterised(picture: Picture) -> Picture:
    found = picture.copy()
    found[..., :3] = picture[..., :3] // 32 * 32 + 12
    return found


def _small(picture: Picture, width: int, height: int) -> Picture:
    image = Image.fromarray(picture).resize((width, height), Image.Resampling.BOX)
    return _posterised(np.asarray(image))


def _scenes() -> list[Picture]:
    """Backgrounds of the menu screens."""
    rng = np.random.default_rng(_SEED)
    walls = [(176, 92, 74), (222, 206, 170), (120, 146, 150), (142, 120, 150)]
    found = [_small(art.sky(rng, 192, 128), 96, 64) for _ in range(4)]
    found += [_small(art.shop(rng, 128, 128, wall), 96, 64) for wall in walls]
    found += [_small(art.water(rng, 128, k / 4), 96, 64) for k in range(4)]
    found += [_small(art.rock(rng, 128), 96, 64) for _ in range(4)]
    for scene in found:
        scene[scene[..., 3] < 255] = (92, 124, 156, 255)
    return found


def screen(scenes: list[Picture], number: int, region: Region) -> bytes:
    """A menu screen: a scene, three buttons and the rectangles that make them act."""
    picture = scenes[number % len(scenes)].copy()
    # Buttons lie elsewhere in the south: the difference by which exports go wrong.
    left = 4 if region == "north" else 58
    rectangles = []
    for line, word in enumerate(_WORDS[region]):
        top = 14 + 15 * line
        colour = ((number * 29 + line * 60) % 160 + 40, (number * 53) % 120 + 40, (number * 17 + 90) % 140 + 60)
        picture[top : top + 11, left : left + 34, :3] = colour
        _write(picture, word, left + 3, top + 3, (244, 236, 212))
        does = BACK if line == 2 and number % 4 == 3 else SAILS if line == 0 and number % 6 == 5 else OPENS
        rectangles.append((left, top, 34, 11, number * 3 % 1000 + line if does == OPENS else 0, does))
    _write(picture, f"{number:04d}", 76, 56, (244, 236, 212))
    return slate(picture, number, rectangles)


def _sprites(count: int) -> list[bytes]:
    rng = np.random.default_rng(_SEED + 1)
    base = [_small(art.seabird(64, kind, frame), 64, 48) for kind in range(4) for frame in range(6)]
    base += [_small(art.stamp(rng, 128, k), 64, 48) for k in range(12)]
    base += [_small(art.weather(64, k), 64, 48) for k in range(12)]
    found = []
    for number in range(count):
        picture = np.roll(base[number % len(base)], number // len(base) % 24, axis=1)
        picture = picture.copy()
        picture[..., :3] = np.roll(picture[..., :3], number // 7 % 3, axis=2)
        found.append(slate(picture, number % 65536))
    return found


def _tiles(count: int) -> list[bytes]:
    rng = np.random.default_rng(_SEED + 2)
    ground = [art.rock(rng, 128), art.water(rng, 128), art.planks(rng, 128)]
    sheet = np.concatenate([_posterised(picture) for picture in ground])
    found = []
    for number in range(count):
        y, x = number * 7 % (sheet.shape[0] - 16), number * 13 % (sheet.shape[1] - 32)
        found.append(slate(sheet[y : y + 16, x : x + 32], number % 65536))
    return found


def inlay(picture: Picture) -> bytes:
    """A picture of at most 256 colours: the colours in 16 bits, then a byte for each pixel."""
    height, width = picture.shape[:2]
    value = picture.astype(np.uint16)
    pixels = value[..., 0] >> 3 | value[..., 1] >> 3 << 5 | value[..., 2] >> 3 << 10
    pixels |= (value[..., 3] >= 128).astype(np.uint16) << 15
    colours, indices = np.unique(pixels, return_inverse=True)
    colours = np.pad(colours[:256], (0, max(256 - len(colours), 0)))
    head = struct.pack("<4sHH", b"INL1", width, height)
    places: bytes = np.minimum(indices, 255).astype(np.uint8).tobytes()
    return head + colours.astype("<u2").tobytes() + places


def mosaic(picture: Picture) -> bytes:
    """A picture in tiles of 4 x 4, each in two halves of 32 bytes: red and green, then blue and alpha."""
    height, width = picture.shape[:2]
    tiles = picture.reshape(height // 4, 4, width // 4, 4, 2, 2).transpose(0, 2, 4, 1, 3, 5)
    return struct.pack("<4sHH", b"MOS1", width, height) + np.ascontiguousarray(tiles).tobytes()


def _keepsakes() -> list[tuple[str, bytes]]:
    """Pictures of two more kinds."""
    rng = np.random.default_rng(_SEED + 4)
    found = [(f"P{k:05d}.INL", inlay(_small(art.stamp(rng, 128, k), 64, 48))) for k in (3, 4)]
    small = Image.fromarray(art.parcel(rng, 128, (186, 146, 100), art.TAR)).resize((64, 48), Image.Resampling.BOX)
    return [*found, ("M00000.MOS", mosaic(np.asarray(small)))]


def screens_pack(region: Region, count: int = SCREENS, ticker: Ticker = _SILENT) -> bytes:
    """The pack of screens, each in an LZSS stream of its own with its size in front."""
    packer = describe("lzss", {"lzss": LzssSpec(kind="lzss", distance="window", distance_add=0, start=4078)})
    scenes = _scenes()

    def packed(number: int) -> bytes:
        data = screen(scenes, number, region)
        return struct.pack("<I", len(data)) + packer.pack(data, packer.levels[0])

    with ThreadPoolExecutor() as pool:
        content = list(_told(pool.map(packed, range(count)), ticker))
    return _laid_out(struct.pack("<4sHH", b"SCRN", count, 1 if region == "north" else 2), content)


def _laid_out(head: bytes, content: list[bytes]) -> bytes:
    place = len(head) + 8 * len(content)
    table, body = bytearray(), bytearray()
    for data in content:
        gap = -(place + len(body)) % 256
        body += bytes(gap)
        table += struct.pack("<II", place + len(body), len(data))
        body += data
    body += bytes(-(place + len(body)) % 256)
    return head + bytes(table) + bytes(body)


def _told(made: Iterable[_Made], ticker: Ticker) -> Iterator[_Made]:
    """The same, with a tick for each."""
    for one in made:
        ticker.tick()
        yield one


def volume_members(
    region: Region, screens: int = SCREENS, members: int = MEMBERS, ticker: Ticker = _SILENT
) -> list[tuple[str, bytes]]:
    """Every file of the volume; fewer ``screens`` and ``members`` make a smaller game of the same kinds."""
    rng = np.random.default_rng(_SEED + 3)
    ticker.begin(screens, "screens made")
    found = [("MENUS.SCR", screens_pack(region, screens, ticker))]
    ticker.begin(members * 5 // 24 + members * 2 // 3, "files made")
    found += [(f"S{k:05d}.SLT", data) for k, data in enumerate(_told(_sprites(members * 5 // 24), ticker))]
    keepsakes = [*_keepsakes(), *strollers.harbour()]
    keepsakes += [(name, slate(picture, 0)) for name, picture in stamps(min(COUNT, members // 12))]
    tiles = _told(_tiles(members * 2 // 3 - len(keepsakes)), ticker)
    found += [(f"T{k:05d}.SLT", data) for k, data in enumerate(tiles)]
    found += keepsakes
    greeting = "Row before it turns." if region == "north" else "Sail when it turns."
    for k in range(members // 12):
        found.append((f"L{k:05d}.TXT", f"[letter {k}]\ntide = {k % 12 + 1}\n{greeting}\n".encode()))
    found.append((bank.NAME, bank.bank()))
    # With the sounds of the bank there are as many items as are asked for.
    for k in range(members - len(found) - len(list(bank.sounds()))):
        found.append((f"Q{k:05d}.SND", b"SQ" + struct.pack("<HI", k, 3000) + rng.bytes(3000)))
    return found


def volume(members: list[tuple[str, bytes]]) -> bytes:
    """The volume: a table of names, sectors and sizes, then every file from a sector's beginning on."""
    first = -(-(32 + 24 * len(members)) // _SECTOR)
    table, body = bytearray(), bytearray()
    for number, (name, data) in enumerate(members):
        total = int(np.frombuffer(data, np.uint8).sum(dtype=np.uint64)) & 0xFFFF
        table += struct.pack("<12sIIHH", name.encode(), first + len(body) // _SECTOR, len(data), total, number % 7)
        body += data + bytes(-len(data) % _SECTOR)
    head = b"CARGOVOL" + struct.pack("<II", len(members), first) + bytes((53 * k + 7) % 256 for k in range(16))
    return (head + bytes(table)).ljust(first * _SECTOR, b"\0") + bytes(body)


# ---- the disc -------------------------------------------------------------------------------------------


def _both(value: int, width: int) -> bytes:
    return value.to_bytes(width, "little") + value.to_bytes(width, "big")


_DATE = bytes([98, 11, 25, 9, 0, 0, 0])


def _record(name: bytes, sector: int, size: int, *, folder: bool = False, form2: bool = False) -> bytes:
    """A directory record (ECMA-119 9.1) with the XA attributes behind it."""
    attributes = 0x8D55 if folder else 0x1555 if form2 else 0x0D55
    xa = struct.pack(">HHH2sB5x", 0, 0, attributes, b"XA", 0)
    head = _both(sector, 4) + _both(size, 4) + _DATE + bytes([2 if folder else 0, 0, 0]) + _both(1, 2)
    body = b"\0" + head + bytes([len(name)]) + name + bytes(1 - len(name) % 2) + xa
    return bytes([len(body) + 1]) + body


def _by_name(record: bytes) -> bytes:
    return record[33 : 33 + record[32]]


def _descriptor(sectors: int, root: bytes, table_size: int, table_at: int) -> bytes:
    """The primary volume descriptor (ECMA-119 8.4)."""
    block = b"\1CD001\1\0" + b"SKERRY".ljust(32) + b"SKERRY_POST".ljust(32) + bytes(8)
    block += _both(sectors, 4) + bytes(32) + _both(1, 2) + _both(1, 2) + _both(_SECTOR, 2) + _both(table_size, 4)
    block += struct.pack("<II", table_at, 0) + struct.pack(">II", table_at + 1, 0) + root
    block += b"".join([b"SKERRY_POST".ljust(128), b" " * 128, b" " * 128, b"SKERRY POST".ljust(128), b" " * 111])
    block += b"1898112509000000\0" + b"1898112509000000\0" + b"0" * 16 + b"\0" + b"0" * 16 + b"\0" + b"\1\0"
    return block.ljust(1024, b"\0")[:1024] + b"CD-XA001".ljust(_SECTOR - 1024, b"\0")


def _subheader(last: bool, form2: bool) -> bytes:
    return bytes([0, 0, (0x20 if form2 else 0x08) | (0x81 if last else 0) | (0x44 if form2 else 0), 0]) * 2


def raw_disc(
    files: Sequence[tuple[str, bytes, bool]], region: Region, ticker: Ticker = _SILENT
) -> np.ndarray[Any, Any]:
    """The image, shape (sectors, 2352), uint8; files are name, bytes, and whether they lie in form 2 sectors."""
    width = {False: _SECTOR, True: 2324}
    place = 23
    records: list[bytes] = []
    spans = []
    for name, data, form2 in files:
        count = -(-len(data) // width[form2])
        size = count * _SECTOR if form2 else len(data)
        records.append(_record(f"{name};1".encode(), place, size, form2=form2))
        spans.append((place, count, data, form2))
        place += count
    records.sort(key=_by_name)
    total = place + 150  # a pause of two seconds closes the track
    root = _record(b"\0", 22, _SECTOR, folder=True)
    listing = root + _record(b"\1", 22, _SECTOR, folder=True) + b"".join(records)
    little = struct.pack("<BBIH", 1, 0, 22, 1) + b"\0\0"
    big = struct.pack(">BBIH", 1, 0, 22, 1) + b"\0\0"
    pvd = _descriptor(total, b"\x22" + root[1:33] + b"\0", len(little), 18)
    system = {16: pvd, 17: b"\xffCD001\1", 18: little, 19: big, 22: listing}
    raw: np.ndarray[Any, Any] = np.zeros((total, _RAW), np.uint8)
    raw[:, 1:11] = 255
    frames = np.arange(total) + 150
    for column, part in enumerate((frames // 4500, frames // 75 % 60, frames % 75), 12):
        raw[:, column] = part // 10 << 4 | part % 10
    raw[:, 15] = 2
    raw[:, 16:24] = np.frombuffer(_subheader(False, False), np.uint8)
    for number, data in system.items():
        raw[number, 24 : 24 + len(data)] = np.frombuffer(data, np.uint8)
    for first, count, data, form2 in spans:
        step = width[form2]
        padded = np.frombuffer(data.ljust(count * step, b"\0"), np.uint8).reshape(count, step)
        raw[first : first + count, 24 : 24 + step] = padded
        raw[first : first + count, 16:24] = np.frombuffer(_subheader(False, form2), np.uint8)
        raw[first + count - 1, 16:24] = np.frombuffer(_subheader(True, form2), np.uint8)
        if form2:
            raw[first : first + count, 2348] = 1  # an EDC is wanted here; its value comes below
    ticker.begin(total, "sectors")
    with ThreadPoolExecutor() as pool:
        for piece in pool.map(_encode, (raw[at : at + _PIECE] for at in range(0, total, _PIECE))):
            ticker.tick(piece)
    return raw


def _encode(sectors: np.ndarray[Any, Any]) -> int:
    from brae.core.sources import kernels

    kernels.encode_sectors(sectors, kernels.UNDO, kernels.EDC)
    return len(sectors)


def generate(
    folder: Path,
    region: Region = "north",
    *,
    screens: int = SCREENS,
    members: int = MEMBERS,
    film: int = 2500,
    ticker: Ticker = _SILENT,
) -> Path:
    """Make the disc of one region in ``folder``; the same bytes every time. Returns the game's own folder.

    With fewer ``screens``, ``members`` and sectors of ``film`` it is a smaller disc of the same kinds.
    """
    game = folder / (DISC if region == "north" else f"{DISC}-{region}")
    game.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(_SEED + 4)
    system = f"[game]\nedition = disc\nregion = {region}\nmenus = CARGO.VOL/MENUS.SCR\n".encode()
    cargo = volume(volume_members(region, screens, members, ticker))
    files = [("CARGO.VOL", cargo, False), ("FILM.STR", rng.bytes(2324 * film), True), ("SYSTEM.TXT", system, False)]
    raw = raw_disc(files, region, ticker)
    name = "skerry"
    with (game / f"{name}.bin").open("wb") as stream:
        stream.write(raw.data)
    # Written last, so it tells that the image is whole.
    sheet = f'FILE "{name}.bin" BINARY\n  TRACK 01 MODE2/2352\n    INDEX 01 00:00:00\n'
    (game / f"{name}.cue").write_text(sheet, encoding="ascii", newline="\r\n")
    return game
