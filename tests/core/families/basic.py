"""Three families that between them use most of what a flat archive needs."""

from __future__ import annotations

import struct
import zlib

from tests.core.families.family import Family, Members, pad

FLAT = """
layout: flat-big
title: Names inline, big-endian, directory first
kind: archive
endian: big
parts:
  - {field: magic, type: bytes, length: 4, value: "FLAT"}
  - {field: count, type: u16, is: count(entries)}
  - {field: total, type: u32, is: file_size(main)}
  - field: sum
    type: u32
    checksum: {kind: sum32be, over: {from: 0, to: 16}}
  - {bytes: odd, size: 2}
  - table: entries
    count: count
    record:
      - {field: name, type: string, length: 24, role: name}
      - {field: offset, type: u32, role: offset}
      - {field: size, type: u32, role: stored-size}
      - {field: check, type: u16, checksum: {kind: sum8, over: stored}}
      - {field: odd, type: u16}
  - {members: data, of: entries, align: 4, fill: 255}
"""


def _flat(members: Members) -> dict[str, bytes]:
    body, table = b"", b""
    start = 16 + 36 * len(members)
    start += -start % 4
    # The data lies in another order than the directory.
    places = {}
    for number in sorted(range(len(members)), key=lambda number: zlib.crc32(members[number][0].encode())):
        places[number] = start + len(body)
        body += pad(members[number][1], 4, b"\xff")
    for number, (name, data) in enumerate(members):
        table += struct.pack(
            ">24sIIHH", name.encode(), places[number], len(data), sum(data) & 0xFFFF, number * 7 % 65536
        )
    total = start + len(body)
    head = struct.pack(">4sHII2s", b"FLAT", len(members), total, 0, b"\x07\x09")
    words = struct.unpack(">4I", head)
    head = struct.pack(">4sHII2s", b"FLAT", len(members), total, sum(words) & 0xFFFFFFFF, b"\x07\x09")
    return {"main": (head + table).ljust(start, b"\xff") + body}


TAIL = """
layout: tail-directory
title: Directory at the end, found from the header; every member a zlib stream
kind: archive
parts:
  - {field: magic, type: bytes, length: 3, value: "TL\\x01"}
  - {field: kind, type: u8}
  - {field: directory_at, type: u32, is: offset(entries)}
  - {field: count, type: u32, is: count(entries)}
  - {field: names_size, type: u32, is: size(names)}
  - field: check
    type: u32
    checksum: {kind: adler32, over: [names, entries]}
  - table: entries
    at: directory_at
    count: count
    record_size: 24
    record:
      - {field: offset, type: u32, role: offset}
      - {field: stored, type: u32, role: stored-size}
      - {field: real, type: u32, role: real-size}
      - {field: name_at, type: u32, role: name-offset}
      - {field: name_size, type: u16, role: name-length}
  - {names: names, size: names_size, encoding: latin-1, base: 0}
  - {members: data, at: 20, of: entries, base: 20, compression: zlib, pad_last: false, align: 2}
"""


def _tail(members: Members) -> dict[str, bytes]:
    body, table, names = b"", b"", b""
    rows = []
    for name, data in members:
        body = pad(body, 2)
        packed = zlib.compress(data, 9)
        raw = name.encode("latin-1")
        rows.append((len(body), len(packed), len(data), len(names), len(raw)))
        names += raw
        body += packed
    names_at = 20 + len(body) + 24 * len(members)  # records point into the file, not into the block
    for number, (at, stored, real, name_at, name_size) in enumerate(rows):
        table += struct.pack("<IIIIH", at, stored, real, names_at + name_at, name_size)
        table += struct.pack("<HI", number, 0xABCD0000 + number)  # six bytes that the layout does not explain
    check = zlib.adler32(table, zlib.adler32(names))
    head = struct.pack("<3sBIIII", b"TL\x01", 9, 20 + len(body), len(members), len(names), check)
    return {"main": head + body + table + names}


PAIR = """
layout: sector-pair
title: Members without names in sectors of another file
kind: archive
files: {body: "{name}.bin"}
parts:
  - {field: count, type: u32, is: count(entries)}
  - {field: mask, type: u32}
  - table: entries
    count: count
    record:
      - {field: offset, type: u64, role: offset}
      - {field: stored, type: u32, role: stored-size}
      - {field: real, type: u32, role: real-size}
      - {field: crc, type: u32, checksum: {kind: crc32, over: stored}}
      - {field: how, type: u16, role: compression, values: {0: none, 7: deflate}}
      - {field: odd, type: i16}
  - {bytes: seal, file: body, size: 64}
  - {members: data, file: body, of: entries, align: 512, fill: 32}
"""


def _pair(members: Members) -> dict[str, bytes]:
    body, table = bytes(range(64)), b""
    for number, (_, data) in enumerate(members):
        body = pad(body, 512, b" " if number else b"\0")
        how = 7 * (number % 2)
        packer = zlib.compressobj(6, zlib.DEFLATED, -15)
        packed = packer.compress(data) + packer.flush() if how else data
        table += struct.pack("<QIIIHh", len(body), len(packed), len(data), zlib.crc32(packed), how, -number)
        body += packed
    return {"main": struct.pack("<II", len(members), 0xFFFF) + table, "body": pad(body, 512, b" ")}


BASIC = [
    Family("flat", FLAT, _flat),
    Family("tail", TAIL, _tail, level=9),
    Family("pair", PAIR, _pair, named=False, grows=False),
]
