"""Writers for the layouts of docs/cookbook.md. They share nothing with Brae but the standard library's packers.

Each writes what its page of the cookbook says, in the plainest way.
"""

from __future__ import annotations

import gzip
import hashlib
import struct
import zlib

import lz4.block
import xxhash
import zstandard

from tests.core.families.family import Family, Members, in_cookbook, pad

Files = dict[str, bytes]


def _deflate(data: bytes, window: int = -15) -> bytes:
    packer = zlib.compressobj(6, zlib.DEFLATED, window)
    return packer.compress(data) + packer.flush()


def _short(name: str) -> str:
    return name[:9]


def _places(members: Members, start: int, align: int = 1, fill: bytes = b"\0") -> tuple[list[int], bytes]:
    """Where each member's data lies when they follow each other from ``start`` on, and the data."""
    places, body = [], b""
    for _, data in members:
        places.append(start + len(body))
        body = body + data
        body += fill * (-(start + len(body)) % align)
    return places, body


def footer(members: Members) -> Files:
    places, body = _places(members, 0)
    table = b"".join(
        struct.pack("<20sII", name.encode(), at, len(data))
        for (name, data), at in zip(members, places, strict=True)
    )
    return {"main": body + table + struct.pack("<II4s", len(body), len(members), b"PIER")}


def middle(members: Members) -> Files:
    preface = b"seventeen bytes.."
    table_at = 4 + 16 + 2 + len(preface)
    places, body = _places(members, 0)
    names, table = b"", b""
    for (name, data), at in zip(members, places, strict=True):
        table += struct.pack(">III", len(names), at, len(data))
        names += name.encode() + b"\0"
    names_at = table_at + len(table) + len(body)
    head = struct.pack(">4sIIIIH", b"MIDL", table_at, len(table), names_at, len(names), len(preface))
    return {"main": head + preface + table + body + names}


def inline(members: Members) -> Files:
    places, body = _places(members, 0)
    table = b"".join(
        name.replace("/", "\\").encode() + b"\0" + struct.pack("<II", at, len(data))
        for (name, data), at in zip(members, places, strict=True)
    )
    return {"main": struct.pack("<4sII", b"INLN", len(members), len(table)) + table + body}


def prefixed(members: Members) -> Files:
    places, body = _places(members, 0, 16)
    table = b""
    for (name, data), at in zip(members, places, strict=True):
        table += bytes([len(name)]) + name.encode("latin-1") + struct.pack("<II", len(data), at)
    table += b"\0"
    data_at = 8 + len(table)
    data_at += -data_at % 16
    return {"main": (struct.pack("<4sI", b"PREF", data_at) + table).ljust(data_at, b"\0") + body}


def own_length(members: Members) -> Files:
    table_size = sum(12 + 2 * len(name) + number % 3 for number, (name, _) in enumerate(members))
    places, body = _places(members, 8 + table_size)
    table = b""
    for number, ((name, data), at) in enumerate(zip(members, places, strict=True)):
        rest = b"\xee" * (number % 3)  # what the layout does not explain
        record = struct.pack("<IIH", at, len(data), len(name)) + name.encode("utf-16-le") + rest
        table += struct.pack("<H", 2 + len(record)) + record
    return {"main": struct.pack("<4sI", b"OWNL", len(table)) + table + body}


def tree(members: Members) -> Files:
    packed = [(name, zlib.compress(data)) for name, data in members]
    places, body = _places(packed, 0, 8)
    root: dict[str, object] = {}
    for number, (name, data) in enumerate(members):
        at: dict[str, object] = root
        *folders, last = name.split("/")
        for folder in folders:
            at = at.setdefault(f"{folder}/", {})  # type: ignore[assignment]
        at[last] = struct.pack("<III", places[number], len(packed[number][1]), len(data))

    def write(name: str, folder: dict[str, object]) -> bytes:
        files = [(key, value) for key, value in folder.items() if isinstance(value, bytes)]
        folders = [(key, value) for key, value in folder.items() if isinstance(value, dict)]
        result = name.encode() + b"\0" + struct.pack("<HH", len(files), len(folders))
        result += b"".join(key.encode() + b"\0" + value for key, value in files)
        return result + b"".join(write(key[:-1], value) for key, value in folders)

    table = write("root", root)
    data_at = 8 + len(table)
    data_at += -data_at % 8
    return {"main": (struct.pack("<4sI", b"TREE", data_at) + table).ljust(data_at, b"\0") + body}


def folders(members: Members) -> Files:
    paths: list[str] = []
    for name, _ in members:
        steps = name.split("/")[:-1]
        for depth in range(len(steps)):
            path = "/".join(steps[: depth + 1])
            if path not in paths:
                paths.append(path)
    head = struct.pack("<4sHH", b"FLDR", len(paths), len(members))
    for path in paths:
        parent = path.rpartition("/")[0]
        number = paths.index(parent) if parent else -1
        head += struct.pack("<12sh", path.rpartition("/")[2].encode("shift-jis"), number)
    start = len(head) + 24 * len(members)
    start += -start % 4
    places, body = _places(members, start, 4)
    for (name, data), at in zip(members, places, strict=True):
        folder, _, last = name.rpartition("/")
        stem, _, ending = last.rpartition(".")
        head += struct.pack(
            "<12s3sBII", stem.encode("shift-jis"), ending.encode(), paths.index(folder), at, len(data)
        )
    return {"main": head.ljust(start, b"\0") + body}


#: where what is added can go: there are no other folders
LANES = ("quay", "lamp/oil", "north")


def in_a_lane(word: str) -> str:
    """A name in one of the folders."""
    return f"{LANES[len(word) % 3]}/{_short(word)}"


def by_lanes(members: Members) -> Members:
    """One folder's after the other's, as they came."""
    return sorted(members, key=lambda member: LANES.index(member[0].rpartition("/")[0]))


def grouped(members: Members) -> Files:
    runs = {lane: [one for one in members if one[0].rpartition("/")[0] == lane] for lane in LANES}
    firsts, so_far = {}, 0
    for lane in LANES:
        firsts[lane], so_far = so_far, so_far + len(runs[lane])
    head = struct.pack("<4sHH", b"GRUP", len(LANES), len(members))
    for lane in LANES:
        head += struct.pack("<12sHH", lane.encode(), firsts[lane], len(runs[lane]))
    places, body = _places(members, len(head) + 20 * len(members))
    for (name, data), at in zip(members, places, strict=True):
        head += struct.pack("<12sII", name.rpartition("/")[2].encode(), at, len(data))
    return {"main": head + body}


def name_list(members: Members) -> Files:
    counts = [sum(name.rpartition("/")[0] == lane for name, _ in members) for lane in LANES]
    names = b"".join(text.encode() + b"\0" for text in [*LANES, *(name.rpartition("/")[2] for name, _ in members)])
    head = struct.pack(">4sBHI", b"NMLS", len(LANES), len(members), len(names))
    table = struct.pack(f">{len(LANES)}H", *counts) + b"".join(struct.pack(">I", len(data)) for _, data in members)
    return {"main": head + table + names + b"".join(data for _, data in members)}


def _typed(word: str) -> str:
    return f"{_short(word)}.{('tex', 'snd', 'map')[len(word) % 3]}"


def typed_files(members: Members) -> Files:
    kinds = ("tex", "snd", "map")
    head = struct.pack("<4sBH", b"TYPF", len(kinds), len(members))
    head += b"".join(struct.pack("<4sB", kind.encode(), 40 + number) for number, kind in enumerate(kinds))
    places, body = _places(members, len(head) + 21 * len(members), 1)
    for (name, data), at in zip(members, places, strict=True):
        stem, _, kind = name.rpartition(".")
        head += struct.pack("<12sBII", stem.encode(), 40 + kinds.index(kind), at, len(data))
    return {"main": head + body}


def _blocked(data: bytes, size: int) -> list[bytes]:
    """Pieces of so many bytes, each packed if that makes it smaller."""
    pieces = [data[at : at + size] for at in range(0, len(data), size)]
    return [min((piece, _deflate(piece)), key=len) for piece in pieces]


def solid(members: Members) -> Files:
    places, body = _places(members, 0)
    blocks = _blocked(body, 64)
    head = struct.pack("<4sHHI", b"SOLD", len(members), len(blocks), len(body))
    head += b"".join(struct.pack("<H", len(block)) for block in blocks)
    for (name, data), at in zip(members, places, strict=True):
        head += struct.pack("<20sII", name.encode(), at, len(data))
    return {"main": head + b"".join(blocks)}


def common_blocks(members: Members) -> Files:
    blocks, rows = [], b""
    for name, data in members:
        rows += struct.pack(">20sIH", name.encode(), len(data), len(blocks))
        blocks += [(piece, zlib.crc32(piece)) for piece in _blocked(data, 64)]
    table_at = 16 + len(rows)
    at = table_at + 12 * len(blocks)
    at += -at % 8
    table, body = b"", b""
    for piece, check in blocks:
        body += bytes(-len(body) % 8)
        table += struct.pack(">III", at + len(body), len(piece), check)
        body += piece
    body += bytes(-len(body) % 8)
    head = struct.pack(">4sIII", b"CBLK", len(members), len(blocks), table_at)
    return {"main": (head + rows + table).ljust(at, b"\0") + body}


def both_sides(members: Members) -> Files:
    half = (len(members) + 1) // 2
    first, early = _places(members[:half], 16, 4)
    at = 16 + len(early)
    at += -at % 16
    start = at + 20 * len(members)
    start += -start % 4
    second, late = _places(members[half:], start, 4)
    table = b"".join(
        struct.pack("<12sII", name.encode(), place, len(data))
        for (name, data), place in zip(members, first + second, strict=True)
    )
    head = struct.pack("<4sIII", b"BOTH", at, len(members), 77)
    return {"main": ((head + early).ljust(at, b"\0") + table).ljust(start, b"\0") + late}


def offsets(members: Members) -> Files:
    start = 8 + 4 * len(members)
    places, body = _places(members, start)
    table = struct.pack(f"<{len(members) + 1}I", *places, start + len(body))
    return {"main": struct.pack("<I", len(members) + 1) + table + body}


def sizes(members: Members) -> Files:
    names = b"".join(name.encode() + b"\0" for name, _ in members)
    head = struct.pack(">4sHH", b"SIZE", len(members), len(names))
    head += b"".join(struct.pack(">II", len(data), zlib.crc32(data)) for _, data in members)
    whole = pad(head + names, 16, b"\xaa")
    for _, data in members:
        whole += pad(data, 16, b"\xaa")
    return {"main": whole}


def _fnv1a(text: str) -> int:
    value = 0x811C9DC5
    for byte in text.lower().replace("/", "\\").encode():
        value = ((value ^ byte) * 0x01000193) & 0xFFFFFFFF
    return value


def hashed(members: Members) -> Files:
    start = 8 + 12 * len(members)
    start += -start % 512
    places, body = _places(members, start, 512)
    rows = sorted((_fnv1a(name), at // 512, len(data)) for (name, data), at in zip(members, places, strict=True))
    table = b"".join(struct.pack("<IHHI", value, sector, 0, size) for value, sector, size in rows)
    return {"main": pad(struct.pack("<4sI", b"HASH", len(members)) + table, 512) + body}


def bits(members: Members) -> Files:
    packed = [(name, _deflate(data) if number % 2 else data) for number, (name, data) in enumerate(members)]
    places, body = _places(packed, 256 * 2, 256)
    table = b""
    for number, ((name, data), at) in enumerate(zip(members, places, strict=True)):
        word = (at - 256) // 256 | (5 * (number % 2)) << 24 | (number % 16) << 28
        table += struct.pack(">10sI", name.encode(), word)
        table += (len(packed[number][1]) + 8).to_bytes(3, "big") + len(data).to_bytes(5, "big")
    total = 512 + len(body)
    head = b"\xb1\x75" + len(members).to_bytes(3, "big") + struct.pack(">H", total // 256)
    return {"main": (head + table).ljust(512, b"\0") + body}


def _varint(number: int) -> bytes:
    result = b""
    while number > 127:
        result += bytes([number % 128 + 128])
        number //= 128
    return result + bytes([number])


def varints(members: Members) -> Files:
    table, body = b"", b""
    for name, data in members:
        packed = _deflate(data)
        table += name.encode() + b"\0" + _varint(len(packed)) + _varint(len(data))
        body += packed
    return {"main": struct.pack("<4sI", b"VARI", len(table)) + table + body}


def chunks(members: Members) -> Files:
    def chunk(tag: bytes, data: bytes) -> bytes:
        return pad(struct.pack(">4sI", tag, len(data)) + data, 2)

    inside = [item for item in members if not _outside(item)]
    outside = [item for item in members if _outside(item)]
    listed = b"note" + b"".join(chunk(name[-4:].encode("latin-1"), data) for name, data in inside)
    body = chunk(b"LIST", listed) + b"".join(chunk(name[-4:].encode("latin-1"), data) for name, data in outside)
    return {"main": b"CHNK" + chunk(b"ROOT", body)}


def _chunk_name(name: str) -> str:
    tag = name[:4].ljust(4, "_")
    return f"ROOT/LIST/{tag}" if name[0] < "h" else f"ROOT/{tag}"


def _outside(item: tuple[str, bytes]) -> bool:
    return not item[0].startswith("ROOT/LIST/")


def stream(members: Members) -> Files:
    whole = b"STRM"
    for number, (name, data) in enumerate(members):
        stored = gzip.compress(data, 6, mtime=0) if number % 2 else data
        raw = name.replace("/", "\\").encode()
        check = 0
        for byte in stored:
            check ^= byte << 8
            for _ in range(8):
                check = (check << 1 ^ 0x1021 if check & 0x8000 else check << 1) & 0xFFFF
        record = struct.pack("<H", len(raw)) + raw
        record += struct.pack("<IIHH", len(stored) + 12, len(data), 2 * (number % 2), check)
        whole = pad(whole + record + stored, 4, b"\xff")
    return {"main": whole + bytes(14)}


def bundle(members: Members) -> Files:
    words = sorted({name.rpartition(".")[2] for name, _ in members})
    names, table = b"", b""
    head_size = 16 + 16 * len(words) + 32 * len(members)
    for name, _ in members:
        names += name.rpartition(".")[0].encode() + b"\0"
    start = head_size + len(names)
    start += -start % 8
    places, body = _places(members, start, 8)
    place = 0
    for number, ((name, data), at) in enumerate(zip(members, places, strict=True)):
        stem, _, word = name.rpartition(".")
        table += struct.pack(
            "<QIIQII", 1000 + 3 * number, 7 + 2 * words.index(word), place, at, len(data), max(number - 1, 0)
        )
        place += len(stem) + 1
    types = b"".join(struct.pack("<I12s", 7 + 2 * place, word.encode()) for place, word in enumerate(words))
    head = struct.pack("<4sIII", b"BNDL", len(words), len(members), len(names))
    return {"main": pad(head + types + table + names, 8) + body}


def blocks(members: Members) -> Files:
    packed = []
    for name, data in members:
        sizes_, bodies = b"", b""
        for at in range(0, len(data), 4096):
            block = data[at : at + 4096]
            small = zlib.compress(block)
            raw = len(small) >= len(block)
            chosen = block if raw else small
            sizes_ += struct.pack("<H", len(chosen) | raw << 15)
            bodies += chosen
        packed.append((name, sizes_ + bodies))
    start = 8 + 36 * len(members)
    places, body = _places(packed, start)
    table = b"".join(
        struct.pack("<24sIII", name.encode(), at, len(stored), len(data))
        for (name, data), (_, stored), at in zip(members, packed, places, strict=True)
    )
    return {"main": struct.pack("<4sI", b"BLKS", len(members)) + table + body}


def lzss(members: Members) -> Files:
    """References only to the byte before (runs), and to the spaces that the window holds at first."""
    packed = []
    for name, data in members:
        out, at = b"", 0
        while at < len(data):
            flags, items = 0, b""
            for bit in range(8):
                run = 0
                while at and at + run < len(data) and run < 18 and data[at + run] == data[at - 1]:
                    run += 1
                if run >= 3:
                    place = (4078 + at - 1) % 4096
                    items += bytes([place & 255, place >> 8 << 4 | run - 3])
                    at += run
                elif at < len(data):
                    flags |= 1 << bit
                    items += data[at : at + 1]
                    at += 1
            out += bytes([flags]) + items
        packed.append((name, struct.pack("<I", len(data)) + out))
    start = 8 + 24 * len(members)
    places, body = _places(packed, start)
    table = b"".join(
        struct.pack("<16sII", name.encode(), at, len(stored))
        for (name, stored), at in zip(packed, places, strict=True)
    )
    return {"main": struct.pack("<4sI", b"LZLZ", len(members)) + table + body}


def runs(members: Members) -> Files:
    """Copies only, and a run where a whole member is one byte."""
    packed = []
    for name, data in members:
        out = b""
        for at in range(0, len(data), 128):
            part = data[at : at + 128]
            out += bytes([127 + len(part), part[0]]) if len(set(part)) == 1 else bytes([len(part) - 1]) + part
        packed.append((name, out))
    start = 6 + 26 * len(members)
    places, body = _places(packed, start)
    table = b"".join(
        struct.pack("<14sIII", name.encode(), at, at + len(stored), len(data))
        for (name, data), (_, stored), at in zip(members, packed, places, strict=True)
    )
    return {"main": struct.pack("<4sH", b"RUNS", len(members)) + table + body}


def hidden(members: Members) -> Files:
    start = 8 + 24 * len(members)
    places, body = _places(members, start)
    table = b"".join(
        struct.pack("<16sII", name.encode(), at, len(data))
        for (name, data), at in zip(members, places, strict=True)
    )
    state, masked = 17, bytearray()
    for byte in table:
        masked.append((byte >> 4 | byte << 4 & 0xF0) ^ (state >> 16 & 255))
        state = (state * 1103515245 + 12345) & 0xFFFFFFFF
    out = b""
    for _, data in members:
        swapped = bytearray(data)
        for at in range(0, len(data) - 1, 2):
            swapped[at], swapped[at + 1] = swapped[at + 1], swapped[at]
        out += bytes(byte ^ b"oar\xff"[at % 4] for at, byte in enumerate(swapped))
    assert len(out) == len(body)
    count = bytes(byte ^ 90 for byte in struct.pack("<I", len(members)))
    return {"main": b"HIDE" + count + bytes(masked) + out}


def checks(members: Members) -> Files:
    start = 36 + 48 * len(members)
    places, body = _places(members, start)
    table = b""
    for (name, data), at in zip(members, places, strict=True):
        crc = 0xFFFF
        for byte in data:
            crc ^= byte << 8
            for _ in range(8):
                crc = (crc << 1 ^ 0x1021 if crc & 0x8000 else crc << 1) & 0xFFFF
        fold = 0
        for (word,) in struct.iter_unpack("<H", pad(data, 2)):
            fold ^= word
        table += struct.pack("<16sIIHH", name.encode(), at, len(data), crc, fold) + hashlib.sha1(data).digest()
    low = high = 0
    for (word,) in struct.iter_unpack("<H", table):
        low = (low + word) % 65535
        high = (high + low) % 65535
    count = struct.pack("<I", len(members))
    digest = hashlib.md5(count + table).digest()
    whole = struct.pack("<Q", xxhash.xxh64_intdigest(table + body))
    return {"main": b"CHEK" + count + struct.pack("<I", high << 16 | low) + digest + whole + table + body}


def lone(members: Members) -> Files:
    ((_, data),) = members
    packed = zstandard.ZstdCompressor(level=3).compress(data)
    return {"main": struct.pack("<4sII", b"LONE", len(data), len(packed)) + packed}


def fixed_size(members: Members) -> Files:
    whole = struct.pack("<4sI", b"FIXD", len(members))
    at = 8 + 32 * len(members)
    body = b""
    for name, data in members:
        align = 64 if name.endswith(".tex") else 32 if name.endswith(".snd") else 4
        align = align if data else 1
        body += bytes(-(at + len(body)) % align)
        whole += struct.pack("<24sII", name.encode(), at + len(body) if data else 0, len(data))
        body += data
    return {"main": (whole + body).ljust(1 << 16, b"\0")}


def _kind_name(name: str) -> str:
    return f"{name}.{('tex', 'snd', 'txt')[ord(name[0]) % 3]}"


def ending(members: Members) -> Files:
    places, body = _places(members, 0)
    table = b""
    for number, ((name, data), at) in enumerate(zip(members, places, strict=True)):
        table += struct.pack("<IIH18s4s", at, len(data), 1 + number % 2, name.encode(), b"rest")
        # A record that is no member stands between them.
        table += struct.pack("<IIH18s4s", 5, 0, 9, b"deleted", b"gone")
    table += struct.pack("<IIH18s4s", 0xFFFFFFFF, 0, 0, b"", b"")
    return {"main": struct.pack("<4sI", b"ENDS", 8 + len(table)) + table + body}


def pays(members: Members) -> Files:
    packed = []
    for name, data in members:
        small = bytes(lz4.block.compress(data, store_size=False))
        packed.append((name, small if len(small) < len(data) else data))
    start = 8 + 28 * len(members)
    places, body = _places(packed, start)
    table = b"".join(
        struct.pack("<16sIII", name.encode(), at, len(stored), len(data))
        for (name, data), (_, stored), at in zip(members, packed, places, strict=True)
    )
    return {"main": struct.pack("<4sI", b"PAYS", len(members)) + table + body}


def cut(members: Members) -> Files:
    start = 8 + 32 * len(members)
    places, body = _places(members, start, 8)
    table = b"".join(
        struct.pack("<24sII", name.encode(), at, len(data))
        for (name, data), at in zip(members, places, strict=True)
    )
    whole = struct.pack("<4sI", b"CUTS", len(members)) + table + body
    found = {f"main.{number}": whole[number * 256 :][:256] for number in range(1, -(-len(whole) // 256))}
    return {"main": whole[:256]} | found


def volumes(members: Members) -> Files:
    holds = [b"hold number 1", b"hold number 2", b"hold number 3"]
    table = b""
    for name, data in members:
        number = len(name) % 2
        holds[number] = pad(holds[number], 16)
        table += struct.pack("<24sHII", name.encode(), number + 1, len(holds[number]), len(data))
        holds[number] += data
    holds = [pad(hold, 16) for hold in holds]
    head = struct.pack("<4sHI", b"VOLS", len(members), sum(map(len, holds)))
    return {"main": head + table, "hold": holds[0], "hold.1": holds[1], "hold.2": holds[2]}


def forms(members: Members) -> Files:
    def chunk(tag: bytes, data: bytes) -> bytes:
        return pad(struct.pack("<4sII", tag, len(data), zlib.crc32(data)) + data, 4)

    inside = [item for item in members if not _off_deck(item)]
    outside = [item for item in members if _off_deck(item)]
    deck = b"".join(chunk(name[-4:].encode(), data) for name, data in inside)
    rest = b"".join(chunk(name[-4:].encode(), data) for name, data in outside)
    return {"main": b"FORM" + chunk(b"HOLD", b"note" + chunk(b"DECK", deck) + rest)}


def _form_name(name: str) -> str:
    tag = name[:4].ljust(4, "_")
    return f"HOLD/DECK/{tag}" if name[0] < "h" else f"HOLD/{tag}"


def _off_deck(item: tuple[str, bytes]) -> bool:
    return not item[0].startswith("HOLD/DECK/")


def linked(members: Members) -> Files:
    """Each object comes after the one before; the last one uses the first."""
    links = struct.pack("<II", 100 + 7 * (len(members) - 1), 100) if members else b""
    start = 12 + 40 * len(members) + len(links)
    places, body = _places(members, start, 4)
    table = b""
    for number, ((name, data), at) in enumerate(zip(members, places, strict=True)):
        after = 100 + 7 * (number - 1) if number else 0
        table += struct.pack("<I24sIII", 100 + 7 * number, name.encode(), at, len(data), after)
    return {"main": struct.pack("<4sII", b"LINK", len(members), len(links) // 8) + table + links + body}


def sectors(members: Members) -> Files:
    head = struct.pack("<4sI", b"SECT", len(members))
    places, body = _places(members, -(-(len(head) + 24 * len(members)) // 2048) * 2048, 2048)
    for (name, data), at in zip(members, places, strict=True):
        last = len(data) % 2048 or 2048
        head += struct.pack("<16sIHH", name.encode(), at // 2048, (len(data) + 2047) // 2048, last)
    return {"main": head.ljust(places[0] if places else len(head), b"\0") + body}


def blocks_counted(members: Members) -> Files:
    head = struct.pack("<4sI", b"CNTD", len(members))
    places, body = _places(members, len(head) + 40 * len(members))
    for (name, data), at in zip(members, places, strict=True):
        letters, blocks = len(name.encode()), -(-len(data) // 512)
        head += struct.pack("<HH24sIII", letters, blocks, name.encode(), at, len(data), at + len(data))
    return {"main": head + body}


def from_base(members: Members) -> Files:
    size = 21 * len(members)
    head = struct.pack("<4sHII", b"BASE", len(members), 14 + size, size + 4)
    places, body = _places(members, 0, 64)
    for (name, data), at in zip(members, places, strict=True):
        head += struct.pack("<13sII", name.encode(), at, len(data))
    return {"main": head + body}


def salted(members: Members) -> Files:
    salt = 0xC0FFEE
    state, key, names = (salt * 3 + 1) & 0xFFFFFFFF, b"", b"".join(name.encode() + b"\0" for name, _ in members)
    for _ in names:
        key += bytes([state >> 16 & 255])
        state = (state * 1103515245 + 12345) & 0xFFFFFFFF
    hidden = bytes(letter ^ mask for letter, mask in zip(names, key, strict=True))
    table = b"".join(struct.pack(">I", len(data) << 6 | number % 64) for number, (_, data) in enumerate(members))
    head = struct.pack(">4sIH", b"SALT", salt, len(members))
    return {"main": head + hidden + table + b"".join(data for _, data in members)}


def said(members: Members) -> Files:
    head = struct.pack("<4sI", b"SAID", len(members))
    places, body = _places(members, len(head) + 32 * len(members))
    for (name, data), at in zip(members, places, strict=True):
        head += struct.pack("<16s4sHHII", name.encode(), b"FILE", 0, 0, at, len(data))
    return {"main": head + body}


def tune(members: Members) -> Files:
    ((_, data),) = members
    return {"main": struct.pack(">4sIHI", b"TUNE", 22050, 1, len(data)) + data}


def bank(members: Members) -> Files:
    head = struct.pack("<4sI", b"BANK", len(members))
    places, body = _places(members, len(pad(head + bytes(24 * len(members)), 16)), 16)
    for (name, data), at in zip(members, places, strict=True):
        head += struct.pack("<12sHHII", name.encode(), 22050, 1, at, len(data))
    return {"main": pad(head, 16) + body}


def named(members: Members) -> Files:
    body = b"NMDC"
    for name, data in members:
        for tag, content in ((b"NAME", name.encode() + b"\0"), (b"DATA", data)):
            body = pad(body + struct.pack("<4sI", tag, len(content)) + content, 4)
    return {"main": body}


def pieces(members: Members) -> Files:
    places, body = _places(members, 0)
    head = struct.pack("<4sI", b"PCES", len(members))
    for (name, data), at in zip(members, places, strict=True):
        head += struct.pack("<16sII", name.encode(), at, len(data))
    return {"main": head, "body": body}


def headed(members: Members) -> Files:
    body, table = b"", b""
    for name, data in members:
        packed, raw = zlib.compress(data, 6), name.encode()
        table += struct.pack("<4sIIIH", b"DIR!", len(body), len(packed), len(data), len(raw)) + raw
        body += struct.pack("<4sIIH", b"ITEM", len(packed), zlib.crc32(data), len(raw)) + raw + packed
    return {"main": body + table + struct.pack("<II4s", len(body), len(members), b"DONE")}


def digits(members: Members) -> Files:
    body = b"TAPE" + bytes(60)
    for name, data in members:
        head = b"%s%011o\0%06d" % (name.encode().ljust(24, b"\0"), len(data), 7)
        words = (head + b" " * 8).ljust(64, b"\0")
        total = sum(int.from_bytes(words[at : at + 2], "little") for at in range(0, 64, 2))
        head += b"%06o\0 " % total
        body += head.ljust(64, b"\0") + data
        body += bytes(-len(body) % 64)
    return {"main": body + bytes(64)}


def behind(members: Members) -> Files:
    body = b"CBHD"
    for name, data in members:
        tag = name.encode().ljust(4, b"\0")
        body += struct.pack(">I", len(data)) + tag + data + struct.pack(">I", zlib.crc32(tag + data))
    return {"main": body}


def naming(members: Members) -> Files:
    places, body = _places(members, 0, 4)
    table = b"".join(
        struct.pack("<16sII", name.encode(), at, len(data))
        for (name, data), at in zip(members, places, strict=True)
    )
    head = struct.pack("<4s24sI", b"NAMG", b"the-data.bin", len(members))
    return {"main": head + table, "data": body}


def separate(members: Members) -> Files:
    lanes: dict[str, Members] = {lane: [] for lane in LANES}
    for name, data in members:
        folder, _, inside = name.rpartition("/")
        lanes.setdefault(folder, []).append((inside, data))
    head_size = 8 + 18 * len(lanes)
    sizes = {lane: sum(1 + len(name) + 8 for name, _ in found) for lane, found in lanes.items()}
    start = head_size + sum(sizes.values())
    body, at, folders, tables = b"", head_size, b"", b""
    for lane, found in lanes.items():
        folders += struct.pack("<12sIH", lane.encode(), at, len(found))
        at += sizes[lane]
        for name, data in found:
            body += bytes(-(start + len(body)) % 8)
            tables += (
                struct.pack("<B", len(name)) + name.encode() + struct.pack("<II", start + len(body), len(data))
            )
            body += data
    body += bytes(-(start + len(body)) % 8)
    return {"main": struct.pack("<4sI", b"SEPD", len(lanes)) + folders + tables + body}


def areas(members: Members) -> Files:
    starts = [7, 40]
    records = [(name.encode(), len(name)) for name, _ in members]
    start = 12 + 8 + sum(1 + size + 9 for _, size in records)
    places, body = _places(members, start)
    table = b""
    for number, ((raw, size), (_, data), at) in enumerate(zip(records, members, places, strict=True)):
        area = number % 2
        table += struct.pack("<B", (size - 1) // 2) + raw
        table += struct.pack("<BII", area, at - starts[area], len(data))
    return {"main": struct.pack("<4sHHIII", b"AREA", 2, 1, len(members), *starts) + table + body}


def packed_bits(members: Members) -> Files:
    start = 8 + 20 * len(members)
    places, body = _places(members, start)
    table = b""
    for number, ((name, data), at) in enumerate(zip(members, places, strict=True)):
        word = _fnv1a(name) & 0xFFFFFF | _crc16_arc(data) << 24 | ((number + 1) % len(members)) << 40
        table += struct.pack("<QII", word, at, len(data)) + struct.pack(">I", len(data))
    return {"main": struct.pack("<4sI", b"BITS", len(members)) + table + body}


def _crc16_arc(data: bytes) -> int:
    value = 0
    for byte in data:
        value ^= byte
        for _ in range(8):
            value = value >> 1 ^ (0xA001 if value & 1 else 0)
    return value


def mixed(members: Members) -> Files:
    """Folders first, then their files; nothing lies at the top."""
    names = list(LANES)
    start = 8 + 32 * (len(members) + len(names))
    places, body = _places(members, start)
    table = b"".join(struct.pack("<HH20sII", 1, 0xFFFF, name.encode(), 0, 0) for name in names)
    for (name, data), at in zip(members, places, strict=True):
        folder, _, inside = name.rpartition("/")
        table += struct.pack("<HH20sII", 0, names.index(folder), inside.encode(), at, len(data))
    return {"main": struct.pack("<4sI", b"MIXD", len(members) + len(names)) + table + body}


def forest(members: Members) -> Files:
    lanes: dict[str, list[tuple[str, int, int]]] = {lane: [] for lane in LANES}
    places, body = _places(members, 0)
    for (name, data), at in zip(members, places, strict=True):
        folder, _, inside = name.rpartition("/")
        lanes.setdefault(folder, []).append((inside, at, len(data)))
    tree = b""
    for folder, found in lanes.items():
        tree += struct.pack("<BBB", 0, len(found), len(folder)) + folder.encode()
        for name, at, size in found:
            tree += struct.pack("<B", len(name)) + name.encode() + struct.pack("<II", at, size)
    return {"main": struct.pack("<4sHI", b"FRST", len(lanes), 10 + len(tree)) + tree + body}


def measured(members: Members) -> Files:
    sector, record = 48, 31
    start = 12 + record * len(members)
    start += -start % sector
    places, body = _places(members, start, sector)
    table = b"".join(
        struct.pack("<16sII", name.encode(), at // sector, len(data)).ljust(record, b"\0")
        for (name, data), at in zip(members, places, strict=True)
    )
    head = struct.pack("<4sHHI", b"MEAS", sector, record, len(members))
    return {"main": (head + table).ljust(start, b"\0") + body}


def _odd(name: str) -> str:
    """A name with an odd number of letters."""
    return name[:9] if len(name[:9]) % 2 else f"{name[:8]}_"


def _tag(name: str) -> str:
    return name[:4]


def _cooked(name: str, writer: object, **more: object) -> Family:
    return Family(name, in_cookbook(f"cook-{name}"), writer, **more)  # type: ignore[arg-type]


COOKED = [
    _cooked("footer", footer, shape=_short),
    _cooked("middle", middle),
    _cooked("inline", inline),
    _cooked("prefixed", prefixed),
    _cooked("own-length", own_length),
    _cooked("tree", tree),
    _cooked("folders", folders),
    _cooked("offsets", offsets, named=False, least=1),
    _cooked("sizes", sizes),
    _cooked("hashed", hashed, named=False, order=lambda members: sorted(members, key=lambda item: _fnv1a(item[0]))),
    _cooked("bits", bits, shape=_short, grows=False),
    _cooked("varints", varints),
    _cooked("chunks", chunks, shape=_chunk_name, order=lambda members: sorted(members, key=_outside)),
    _cooked("stream", stream),
    _cooked("bundle", bundle),
    _cooked("blocks", blocks),
    _cooked("lzss", lzss, shape=_short, exact=False),
    _cooked("runs", runs, shape=_short, exact=False),
    _cooked("hidden", hidden, shape=_short),
    _cooked("checks", checks, shape=_short),
    _cooked("lone", lone, named=False, grows=False, most=1),
    _cooked("tune", tune, named=False, grows=False, most=1),
    _cooked("bank", bank, shape=_short, grows=False, least=1),
    _cooked("fixed-size", fixed_size, shape=_kind_name),
    _cooked("ending", ending, shape=_short, grows=False),
    _cooked("pays", pays, shape=_short),
    _cooked("cut", cut, shape=_short, least=9),
    _cooked("volumes", volumes, shape=_short),
    _cooked("forms", forms, shape=_form_name, order=lambda members: sorted(members, key=_off_deck)),
    _cooked("linked", linked, shape=_short, grows=False),
    _cooked("sectors", sectors, shape=_short, least=1),
    _cooked("blocks-counted", blocks_counted, shape=_short, grows=False),
    _cooked("from-base", from_base, shape=_short),
    _cooked("named", named, grows=False),
    _cooked("pieces", pieces, shape=_short),
    _cooked("said", said, shape=_short, grows=False),
    _cooked("salted", salted, shape=_short, grows=False),
    _cooked("both-sides", both_sides, shape=_short, least=2),
    _cooked("solid", solid, shape=_short),
    _cooked("common-blocks", common_blocks, shape=_short),
    _cooked("grouped", grouped, shape=in_a_lane, order=by_lanes),
    _cooked("name-list", name_list, shape=in_a_lane, order=by_lanes),
    _cooked("typed-files", typed_files, shape=_typed),
    _cooked("headed", headed),
    _cooked("digits", digits, shape=_short),
    _cooked("behind", behind, shape=_tag),
    _cooked("naming", naming, shape=_short),
    _cooked("separate", separate, shape=in_a_lane, order=by_lanes),
    _cooked("areas", areas, shape=_odd, grows=False),
    _cooked("packed-bits", packed_bits, named=False, grows=False),
    _cooked("mixed", mixed, shape=in_a_lane),
    _cooked("measured", measured, shape=_short),
    _cooked("forest", forest, shape=in_a_lane, order=by_lanes),
]
