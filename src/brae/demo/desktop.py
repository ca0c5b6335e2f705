"""Makes the desktop edition of Skerry Post: archives of three kinds, an add-on, a loose override, text settings.

The writer below is the game's own: it shares nothing with the layouts by which Brae reads these files.
"""

from __future__ import annotations

import io
import struct
import wave
import zlib
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_levels, encode_new
from brae.core.assets.texture.texture import Header, Orientation
from brae.demo import DESKTOP, art, models, speech
from brae.demo.tunes import tunes

SEED = 1897
_FORMAT_NUMBERS = {"bc1": 1, "bc3": 3, "bc4": 4, "bc5": 5, "bc7": 7, "bgra8": 8, "bgr8": 9}

SETTINGS = """\
; Skerry Post, desktop edition
[game]
edition = desktop
language = en
region = north

[archives]
; what stands above is used before what stands below
lantern = addons/lantern.kist
main = data/harbour.kist
streams = data/streams.kist

[video]
mip_levels = all
water_frames = 16
"""

_ROUTES = [
    "Mossbay",
    "Outer Skerry",
    "Kelp Sound",
    "Hollow Stack",
    "Gannet Ness",
    "Long Geo",
    "Peat Holm",
    "Ferry Nook",
]
_PEOPLE = ["the keeper", "old Ishbel", "the cooper", "both twins", "the schoolhouse", "whoever is home"]
_THINGS = [
    "a kettle",
    "two skeins of wool",
    "lamp oil",
    "seed potatoes",
    "a letter in three parts",
    "a borrowed ladder",
]


#: what the header says of a texture's use, by its number
_USES = ("colour", "normal", "packed", "height")


def ptx(
    picture: np.ndarray[Any, Any],
    pixel_format: str,
    levels: int | None,
    *,
    bottom_up: bool = False,
    use: str = "colour",
    stamp: int = 0,
) -> bytes:
    """A texture in the game's own format; ``levels`` None makes the full chain."""
    height, width = picture.shape[:2]
    count = formats.full_chain(width, height) if levels is None else levels
    opaque = bool((picture[..., 3] == 255).all())
    orientation: Orientation = "bottom-up" if bottom_up else "top-down"
    header = Header("skerry-ptx", formats.get(pixel_format), width, height, count, orientation)
    data, _, _ = encode_levels(picture, header, formats.How(clear=not opaque))
    pixels = b"".join(data)
    head = struct.pack(
        "<4sHHBBBBII",
        b"PTX2",
        width,
        height,
        _FORMAT_NUMBERS[pixel_format],
        count,
        int(bottom_up),
        _USES.index(use),
        len(pixels),
        stamp * 2654435761 % 2**32,
    )
    return head + pixels


def streamed(picture: np.ndarray[Any, Any], pixel_format: str, here: int, stamp: int) -> tuple[bytes, bytes]:
    """A texture in two files: a stub with the ``here`` smallest levels, and the larger ones, largest first."""
    height, width = picture.shape[:2]
    header = Header("skerry-pts", formats.get(pixel_format), width, height, formats.full_chain(width, height))
    data, _, _ = encode_levels(picture, header)
    away, kept = b"".join(data[:-here]), b"".join(data[-here:])
    numbers = (width, height, _FORMAT_NUMBERS[pixel_format], header.levels, here, stamp % 5, len(kept), len(away))
    return struct.pack("<4sHHBBBBII", b"PTS1", *numbers) + kept, away


def _grain() -> Iterator[tuple[str, bytes]]:
    """Pixels without any header, all of one size: the game knows what they are."""
    header = Header("raw", formats.get("bc1"), 128, 128, formats.full_chain(128, 128))
    for k in range(4):
        levels, _, _ = encode_levels(art.planks(_rng(420 + k), 128), header)
        yield f"textures/grain/wood_{k:02d}.raw", b"".join(levels)


def _streams() -> Iterator[tuple[str, bytes, bytes]]:
    """Names of large textures, and their two files."""
    for k, (name, draw, pixel_format) in enumerate(
        [("rock/cliff", partial(art.rock, _rng(400), 512, art.SLATE), "bc1")]
    ):
        yield f"textures/{name}", *streamed(draw(), pixel_format, 7, 600 + k)


def _wav(samples: np.ndarray[Any, Any], rate: int = 22050) -> bytes:
    stream = io.BytesIO()
    with wave.open(stream, "wb") as out:
        out.setnchannels(1)
        out.setsampwidth(2)
        out.setframerate(rate)
        out.writeframes((np.clip(samples, -1, 1) * 24000).astype("<i2").tobytes())
    return stream.getvalue()


def _looped(rate: int, pitch: float) -> bytes:
    """A bell that can be rung on: struck, then a loop of whole periods of all its tones, then it dies away."""
    turn = round(rate * 100 / pitch)
    t = np.arange(4 * turn)
    tones = sum(np.sin(2 * np.pi * round(100 * m) * t / turn) / m for m in (1, 2.76, 5.4))
    loud = np.concatenate([1 + np.linspace(1, 0, turn) ** 2, np.ones(2 * turn), np.linspace(1, 0, turn) ** 2])
    smpl = struct.pack("<9I", 0, 0, round(1e9 / rate), 60, 0, 0, 0, 1, 0)
    smpl += struct.pack("<6I", 0, 0, turn, 3 * turn - 1, 0, 0)
    body = _wav(np.asarray(tones) * loud * 0.18, rate)[12:] + b"smpl" + struct.pack("<I", len(smpl)) + smpl
    return b"RIFF" + struct.pack("<I", 4 + len(body)) + b"WAVE" + body


def _sounds(rng: np.random.Generator) -> Iterator[tuple[str, bytes]]:
    rate = 22050
    t = np.arange(int(rate * 0.9)) / rate
    for k in range(12):
        pitch = 330 * 2 ** (k / 12)
        bell = sum(np.sin(2 * np.pi * pitch * m * t) * np.exp(-t * (3 + 2 * m)) / m for m in (1, 2.76, 5.4))
        ringing = np.asarray(bell) * 0.5
        yield f"sounds/bell/{k:02d}.wav", _wav(ringing) if k else _looped(rate, pitch)
    for k in range(10):
        sweep = 900 + 500 * np.sin(2 * np.pi * (2 + k * 0.3) * t) * np.exp(-t * 2)
        cry = np.sin(2 * np.pi * np.cumsum(sweep) / rate) * np.exp(-((t - 0.25) ** 2) * 20)
        yield f"sounds/birds/cry_{k:02d}.wav", _wav(cry * 0.5)
    for k in range(8):
        hush = rng.normal(0, 1, len(t))
        hush = np.convolve(hush, np.ones(40 + 10 * k) / (40 + 10 * k), "same") * np.sin(np.pi * t / t[-1]) ** 2
        yield f"sounds/sea/wave_{k:02d}.wav", _wav(hush * 1.6)
    for k in range(6):
        knock = np.sin(2 * np.pi * (90 + 14 * k) * t) * np.exp(-t * 22) + rng.normal(0, 0.2, len(t)) * np.exp(
            -t * 40
        )
        yield f"sounds/boat/oar_{k:02d}.wav", _wav(knock)


def _texts(rng: np.random.Generator) -> Iterator[tuple[str, bytes]]:
    for k in range(48):
        place, person, thing = (str(rng.choice(words)) for words in (_ROUTES, _PEOPLE, _THINGS))
        head = f"[letter {k:02d}]\nto = {person}, {place}\ncarries = {thing}\n"
        text = f"{head}\nThe tide turns at {k % 12 + 1}. Row before it does.\n"
        yield f"texts/letters/{k:02d}.txt", text.encode()
    for k, place in enumerate(_ROUTES):
        yield (
            f"texts/places/{place.lower().replace(' ', '_')}.txt",
            f"{place}\nPier {k + 1}, open when the lamp is lit.\n".encode(),
        )


@dataclass(frozen=True)
class Drawing:
    """A texture to be made; ``levels`` None is the full chain."""

    name: str
    draw: Callable[[], np.ndarray[Any, Any]]
    format: str
    levels: int | None = None
    bottom_up: bool = False
    use: str = "colour"


def _rng(number: int) -> np.random.Generator:
    return np.random.default_rng([SEED, number])


def _drawings() -> Iterator[Drawing]:
    yield Drawing("boat/hull", partial(art.hull, 512, 256), "bc3")
    yield Drawing("boat/sail", partial(art.sail, _rng(1), 256, 256), "bc3")
    yield Drawing("boat/pennant", partial(art.pennant, 128, 64), "bgra8", bottom_up=True)
    yield Drawing("harbour/lighthouse", partial(art.lighthouse, 256, 512), "bc3")
    yield Drawing("harbour/jetty", partial(art.planks, _rng(2), 256), "bc1")
    yield Drawing("harbour/sky", partial(art.sky, _rng(3), 512, 256), "bc1")
    yield Drawing("harbour/chart", partial(art.chart, _rng(4), 256), "bgr8", levels=1)
    yield Drawing("post/label", partial(art.label, _rng(5), 256, 128), "bgra8", levels=1)
    yield Drawing("harbour/dusk", partial(art.sky, _rng(6), 512, 256), "bc7")
    yield Drawing("water/swell_n", partial(art.swell_directions, _rng(7), 128), "bc5", use="normal")
    yield Drawing("boat/hull_wear", partial(art.hull_wear, _rng(8), 256, 128), "bc7", use="packed")
    yield Drawing("rock/height", partial(art.heights, _rng(9), 128), "bc4", use="height")
    walls = [(176, 92, 74), (222, 206, 170), (120, 146, 150), (206, 170, 92), (142, 120, 150), (226, 226, 220)]
    for k in range(12):
        yield Drawing(f"harbour/shop_{k:02d}", partial(art.shop, _rng(20 + k), 128, 128, walls[k % 6]), "bc3")
    boards = [(70, 92, 84), (92, 70, 56), (120, 52, 44), (54, 76, 98)]
    for k, place in enumerate([*_ROUTES, "Post", "Ferry", "Chandler", "Tea"]):
        name = place.lower().replace(" ", "_")
        draw = partial(art.sign, _rng(40 + k), 128, 128, place.upper(), boards[k % 4])
        yield Drawing(f"signs/{name}", draw, "bgra8")
    papers = [(186, 146, 100), (204, 178, 136), (164, 128, 96), (150, 150, 140)]
    strings = [art.OXBLOOD, art.TAR, art.MOSS, art.CREAM]
    for k in range(16):
        draw = partial(art.parcel, _rng(60 + k), 128, papers[k % 4], strings[k // 4])
        yield Drawing(f"post/parcel_{k:02d}", draw, "bc1")
    for k in range(48):
        yield Drawing(f"stamps/stamp_{k:02d}", partial(art.stamp, _rng(100 + k), 128, k), "bc3" if k % 3 else "bc1")
    for kind, bird in enumerate(("gull", "petrel", "gannet", "skua")):
        for frame in range(6):
            draw = partial(art.seabird, 64, kind, frame)
            levels = 1 if kind == 3 else None
            yield Drawing(f"seabirds/{bird}_{frame}", draw, "bgra8" if kind % 2 else "bc3", levels)
    for k in range(16):
        yield Drawing(f"water/sea_{k:02d}", partial(art.water, _rng(200), 128, k / 16), "bc1")
    tints = [art.SLATE, (120, 104, 92), (104, 116, 96)]
    for k in range(12):
        draw = partial(art.rock, _rng(220 + k), 128, tints[k % 3])
        yield Drawing(f"rock/skerry_{k:02d}", draw, "bgr8" if k % 4 == 3 else "bc1")
    for k in range(12):
        yield Drawing(f"weather/sign_{k:02d}", partial(art.weather, 64, k), "bgra8", levels=1)
    for character in "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789":
        yield Drawing(f"type/{character.lower()}", partial(art.letter, 64, character), "bc3", levels=1)


def members() -> list[tuple[str, bytes]]:
    """Every member of the archive, by name."""

    def made(number: int, drawing: Drawing) -> tuple[str, bytes]:
        picture = drawing.draw()
        how = {"bottom_up": drawing.bottom_up, "use": drawing.use}
        data = ptx(picture, drawing.format, drawing.levels, **how, stamp=number)  # type: ignore[arg-type]
        return f"textures/{drawing.name}.ptx", data

    with ThreadPoolExecutor() as pool:
        found = list(pool.map(made, *zip(*enumerate(_drawings()), strict=True)))
    noon = encode_new(art.noon(_rng(10), 256, 128), formats.BC6H, None, dx10=True)
    found.append(("textures/harbour/noon.dds", noon))
    found += [(f"{name}.pts", stub) for name, stub, _ in _streams()]
    found += list(_grain())
    rng = _rng(999)
    found += [*_sounds(rng), *_texts(rng), *tunes()]
    for k in range(24):
        route = struct.pack("<4sII", b"ROUT", k, 40) + rng.normal(0, 90, 80).astype("<f4").tobytes()
        found.append((f"routes/{k:02d}.rte", route))
    return sorted(found)


def write_pair(folder: Path, stem: str, content: list[tuple[str, bytes]]) -> None:
    """The index and data file of an archive, as the game's own tools write them."""
    hold = bytearray(b"HOLD" + bytes((37 * k + 11) % 251 for k in range(12)))
    names, entries = bytearray(), bytearray()
    for number, (name, data) in enumerate(content):
        packing = (0, 2, 2, 1)[number % 4] if len(data) > 200 else 0
        if packing == 1:
            stored = zlib.compress(data, 6)
        elif packing == 2:
            packer = zlib.compressobj(9, zlib.DEFLATED, -15)
            stored = packer.compress(data) + packer.flush()
        else:
            stored = data
        hold += bytes(-len(hold) % 32)
        entries += struct.pack(
            "<IIIIIBBH",
            len(names),
            len(hold),
            len(stored),
            len(data),
            zlib.crc32(data),
            packing,
            len(name) % 5,
            number * 40503 % 65536,
        )
        names += name.encode() + b"\0"
        hold += stored
    hold += bytes(-len(hold) % 32)
    names_at = 64 + len(entries) + (-(64 + len(entries)) % 16)
    head = struct.pack(
        "<4sHHIIIII",
        b"KIST",
        2,
        3,
        len(content),
        len(names),
        names_at,
        len(hold),
        zlib.crc32(names, zlib.crc32(entries)),
    )
    head += bytes((91 * k + 5) % 256 for k in range(20))
    head += struct.pack("<I", zlib.adler32(head))
    head += bytes((13 * k + 201) % 256 for k in range(64 - len(head)))  # a few bytes nobody has explained
    index = head + entries
    index += bytes(names_at - len(index)) + names
    folder.mkdir(parents=True, exist_ok=True)
    (folder / f"{stem}.hold").write_bytes(hold)
    (folder / f"{stem}.kist").write_bytes(index)


def _fnv1a(name: str) -> int:
    value = 0x811C9DC5
    for byte in name.lower().replace("/", "\\").encode():
        value = (value ^ byte) * 0x01000193 % 2**32
    return value


def hashed_archive(content: list[tuple[str, bytes]]) -> bytes:
    """Members in sectors of 512 bytes, in the order of the hashes of their paths."""
    table, body = bytearray(), bytearray()
    first = -(-(8 + 12 * len(content)) // 512)
    for wear, (name, data) in enumerate(sorted(content, key=lambda one: _fnv1a(one[0]))):
        table += struct.pack("<IHHI", _fnv1a(name), first + len(body) // 512, wear % 3, len(data))
        body += data + bytes(-len(data) % 512)
    head = struct.pack("<4sI", b"MINI", len(content)) + bytes(table)
    return head.ljust(first * 512, b"\0") + bytes(body)


def bundle(objects: list[tuple[str, str, int, bytes]]) -> bytes:
    """Typed, named objects: type, name, the object it belongs to (by place, -1: none) and bytes."""
    types = sorted({kind for kind, _, _, _ in objects})
    names, table, body = bytearray(), bytearray(), bytearray()
    places = []
    for _, name, _, _ in objects:
        places.append(len(names))
        names += name.encode() + b"\0"
    start = 16 + 16 * len(types) + 32 * len(objects) + len(names)
    for number, (kind, _, owner, data) in enumerate(objects):
        body += bytes(-(start + len(body)) % 8)
        place = start + len(body)
        owned_by = 0 if owner < 0 else 1000 + 7 * owner
        numbers = (1000 + 7 * number, 40 + types.index(kind), places[number], place, len(data), owned_by)
        table += struct.pack("<QIIQII", *numbers)
        body += data
    body += bytes(-(start + len(body)) % 8)
    head = struct.pack("<4sIII", b"BNDL", len(types), len(objects), len(names))
    head += b"".join(struct.pack("<I12s", 40 + number, kind.encode()) for number, kind in enumerate(types))
    return head + bytes(table) + bytes(names) + bytes(body)


def _figures() -> list[tuple[str, str, int, bytes]]:
    people = ["keeper", "cooper", "ishbel", "twins", "ferryman", "teacher"]
    objects = []
    for k, name in enumerate(people):
        cloth = art.parcel(_rng(300 + k), 128, (140 + 16 * k, 120, 160 - 14 * k), art.CREAM)
        objects.append(("ptx", f"figures/{name}", 2 * k + 1, ptx(cloth, "bc1", None, stamp=700 + k)))
        text = (
            f"; what {name} is dressed in\n[material]\ncolour = figures/{name}\nambient = 0.4 0.42 0.5\n"
            f"highlight = 0.{k + 2}   ; how much wet cloth shines\ntwo_sided = {'yes' if k % 2 else 'no'}\n"
        )
        objects.append(("txt", f"materials/{name}", -1, text.encode()))
    return objects


#: the game's own numbers of what a mouth does
_SHAPES = [
    "", "M B P", "F V", "TH DH", "D T", "K G", "SH CH", "S Z", "N L", "R ER", "AA AH AY AW AE", "EH EY", "IY IH",
    "AO OW", "UW UH W",
]  # fmt: skip


def _shape(code: str) -> int:
    return next(number for number, some in enumerate(_SHAPES) if code in some.split())


def mouth(words: list[tuple[str, list[tuple[str, float, float]]]], seconds: float) -> bytes:
    """A mouth track: moves in hundredths of a second, the first of each word with the word."""
    moves = []
    for word, phonemes in words:
        for number, (code, start, end) in enumerate(phonemes):
            at, until = round(start * 100), round(end * 100)
            name = word.encode() if number == 0 else b""
            moves.append(struct.pack("<HHBB12s", at, until - at, _shape(code), 120 + 9 * len(code) * number, name))
    return struct.pack("<4sHH", b"MOUT", round(seconds * 100), len(moves)) + b"".join(moves)


def _voices() -> list[tuple[str, str, int, bytes]]:
    """Voice lines and what the mouth does in them."""
    objects = []
    for line in speech.LINES:
        samples, rate, words = speech.say(line)
        objects.append(("wav", f"voices/{line.name}", -1, _wav(samples / 32768, rate)))
        objects.append(("mth", f"voices/{line.name}", -1, mouth(words, len(samples) / rate)))
    return objects


def _models() -> list[tuple[str, str, int, bytes]]:
    """Models, and the materials of their parts."""
    objects = [
        (
            ("fin", f"finishes/{name}", -1, models.finish(colour, ambient, highlight, two_sided=both))
            if name in models.FINISHES
            else ("txt", f"materials/{name}", -1, models.material(colour, ambient, highlight, two_sided=both))
        )
        for name, (colour, ambient, highlight, both) in models.MATERIALS.items()
    ]
    for number, (name, picture) in enumerate(models.skins().items()):
        objects.append(("ptx", f"skins/{name}", -1, ptx(picture, "bc1", None, stamp=720 + number)))
    for number, (name, make) in enumerate(models.MODELS.items()):
        objects.append(("shp", f"models/{name}", -1, models.shape(make(), 40 + number)))
    walker = models.walker(models.postwoman(), models.postwoman(6), 61)
    objects += [("wlk", "models/postwoman", -1, walker), ("txt", "swaps/harbour", -1, models.swaps())]
    return objects


def _extras(game: Path) -> None:
    """What stands beside the main archive: small copies, a bundle, an add-on and a loose file over both."""
    stamps = [(f"textures/stamps/stamp_{k:02d}.ptx", art.stamp(_rng(100 + k), 32, k)) for k in range(12)]
    minis = [(name, ptx(picture, "bgra8", 1, stamp=800 + k)) for k, (name, picture) in enumerate(stamps)]
    (game / "data" / "minis.hash").write_bytes(hashed_archive(minis))
    (game / "data" / "figures.bundle").write_bytes(bundle(_figures() + _voices() + _models()))
    board = art.sign(_rng(40), 128, 128, "MOSSBAY", (120, 84, 30))
    night = [("textures/signs/mossbay.ptx", ptx(board, "bgra8", None, stamp=900))]
    night.append(("textures/weather/sign_00.ptx", ptx(art.weather(64, 5), "bgra8", 1, stamp=901)))
    write_pair(game / "addons", "lantern", night)
    loose = game / "loose" / "textures" / "weather" / "sign_01.ptx"
    loose.parent.mkdir(parents=True, exist_ok=True)
    loose.write_bytes(ptx(art.weather(64, 7), "bgra8", 1, stamp=902))


def generate(folder: Path) -> Path:
    """Make the game's files in ``folder``; the same bytes every time. Returns the game's own folder."""
    game = folder / DESKTOP
    game.mkdir(parents=True, exist_ok=True)
    write_pair(game / "data", "harbour", members())
    write_pair(game / "data", "streams", [(f"streams/{name}.lvl", away) for name, _, away in _streams()])
    _extras(game)
    (game / "skerry.cfg").write_text(SETTINGS, encoding="utf-8", newline="\n")
    return game
