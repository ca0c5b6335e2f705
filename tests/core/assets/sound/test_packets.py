"""Vorbis and Opus as bare packets, and the tags of Ogg and FLAC files.

Reference: libsndfile (with libvorbis, libopus and libFLAC) wrote every stream and hears what Brae makes of it; the
Ogg pages are taken apart here by RFC 3533, with no code of Brae, and laid out as games lay them out. That games do
is common practice, no source.
"""

from __future__ import annotations

import io
import struct
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
import soundfile

from brae.core.assets.base import Context, ExchangeFile, Version
from brae.core.assets.sound import opus
from brae.core.assets.sound.kind import KIND
from brae.core.assets.sound.sound import Sound, plain, read
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.library import Library
from tests.core.assets.sound.test_codecs import edited

RATE = {"vorbis": 22050, "opus": 24000}


def music(rate: int, seconds: float, channels: int = 1) -> np.ndarray:
    time = np.arange(round(rate * seconds))[:, None] / rate + np.arange(channels) / 700
    tone = 0.3 * np.sin(2 * np.pi * (330 * time + 20 * np.sin(2 * time))) * (np.sin(5 * time) > -0.3)
    return tone + np.random.default_rng(7).normal(0, 0.003, tone.shape)


def stream(codec: str, samples: np.ndarray, level: float = 0.5) -> bytes:
    file = io.BytesIO()
    soundfile.write(file, samples, RATE[codec], format="OGG", subtype=codec.upper(), compression_level=level)
    return file.getvalue()


def taken_apart(data: bytes) -> list[bytes]:
    """The packets of an Ogg file."""
    found, piece, at = [], b"", 0
    while at < len(data):
        count = data[at + 26]
        lacing, place = data[at + 27 : at + 27 + count], at + 27 + count
        for size in lacing:
            piece += data[place : place + size]
            place += size
            if size < 255:
                found.append(piece)
                piece = b""
        at = place
    return found


def heard(data: bytes) -> np.ndarray:
    return soundfile.read(io.BytesIO(data), always_2d=True)[0]


def opened(data: bytes, said: dict[str, Any], headers: bytes = b"") -> Sound:
    found: Sound = KIND.read(
        data, Context(Library(), "voices/a.pak", lambda name: headers, said={"kind": "sound", **said})
    )
    return found


def framed(packets: list[bytes], head: str = "<H") -> bytes:
    return b"".join(struct.pack(head, len(packet)) + packet for packet in packets)


@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize("codec", ["vorbis", "opus"])
def test_packets_are_heard_as_the_library_hears_them(codec: str, channels: int) -> None:
    samples = music(RATE[codec], 1.7, channels)
    file = stream(codec, samples)
    packets = taken_apart(file)
    body = packets if codec == "vorbis" else packets[2:]
    said = {"codec": codec, "rate": RATE[codec], "channels": channels, "packet": "size 16"}
    wanted = heard(file)
    for more, cut in (({"samples": len(samples)}, True), ({}, False)):
        sound = opened(framed(body) + b"\0\0tail", {**said, **more})
        assert sound.frames == len(wanted) if cut else sound.frames >= len(wanted)
        assert np.array_equal(sound.samples[: len(wanted)], wanted)
        assert KIND.rebuild(sound) == sound.raw
        assert edited(sound, sound.samples) == (set(), sound.raw)


LAYS = {
    "little": ({"packet": "size 16"}, "<H"),
    "big, of 24 bits": ({"packet": "flags 8, size 24", "endian": "big"}, ">I"),
    "with the head": ({"packet": "whole 32"}, "<I"),
}


@pytest.mark.parametrize("lay", LAYS)
@pytest.mark.parametrize("codec", ["vorbis", "opus"])
def test_an_edit_in_packets(codec: str, lay: str) -> None:
    """What is written is as near to the samples as what the library wrote, and of about the same size."""
    more, form = LAYS[lay]
    samples = music(RATE[codec], 1.5)
    file = stream(codec, samples)
    packets = taken_apart(file)[0 if codec == "vorbis" else 2 :]
    size = struct.calcsize(form)
    data = b"".join(
        struct.pack(form, len(one) + (size if "whole" in more["packet"] else 0)) + one for one in packets
    )
    said = {"codec": codec, "rate": RATE[codec], **more}
    original = opened(data, said)
    other = np.roll(samples[::-1], 5000, axis=0) * 0.8
    _, made = edited(original, other)
    again = opened(made, said)
    noise = ((again.samples[: len(other)] - other) ** 2).mean()
    theirs = ((heard(stream(codec, other)) - other) ** 2).mean()
    assert noise < 1.3 * theirs
    assert abs(again.frames - len(other)) < 0.1 * RATE[codec]
    assert 0.8 < len(made) / len(data) < 1.25


def test_headers_stored_once_elsewhere() -> None:
    samples = music(RATE["vorbis"], 1.2)
    said = {"codec": "vorbis", "rate": RATE["vorbis"], "packet": "size 16", "headers": "{folder}/all.head"}
    for level in (0.2, 0.5, 0.9):  # the encoder's codebooks are found by themselves
        packets = taken_apart(stream("vorbis", samples, level))
        for headers in (framed(packets[:3]), stream("vorbis", samples, level), b"".join(packets[:3])):
            sound = opened(framed(packets[3:]), said, headers)
            assert np.array_equal(sound.samples[: len(samples)], heard(stream("vorbis", samples, level)))
        KIND.check_writable(sound)
        _, data = edited(sound, samples * 0.5)
        other = opened(data, said, framed(packets[:3]))
        assert ((other.samples[: len(samples)] - samples * 0.5) ** 2).mean() < 0.01 * (samples**2).mean()
    # The setup alone, as the identification says nothing that the records do not.
    first = packets[0]
    sizes = {"short": 1 << (first[28] & 15), "long": 1 << (first[28] >> 4)}
    alone = opened(framed(packets[3:]), {**said, **sizes}, packets[2])
    assert np.array_equal(alone.samples, sound.samples)
    with pytest.raises(FormatError, match="need their headers"):
        opened(framed(packets[3:]), said, packets[2])
    # Codebooks of another encoder: heard, and not written.
    setup = bytearray(packets[2])
    mark = setup.index(b"BCV")  # a codebook's (Vorbis I, 3.2.1)
    setup[mark + 5] ^= 1
    strange = replace(sound.packets, stream=replace(sound.packets.stream, setup=bytes(setup)))
    with pytest.raises(FormatError, match="heard, but not written"):
        KIND.check_writable(replace(sound, packets=strange))


@pytest.mark.parametrize("right", [True, False])
def test_heads_that_say_how_many_samples_a_packet_adds(right: bool) -> None:
    """They follow where they are that; a number that is something else stays."""
    samples = music(RATE["vorbis"], 1)
    packets = taken_apart(stream("vorbis", samples))
    sizes = (1 << (packets[0][28] & 15), 1 << (packets[0][28] >> 4))
    plain_said = {"codec": "vorbis", "rate": RATE["vorbis"], "packet": "size 16"}
    ends = opened(framed(packets), plain_said).packets.stream.positions(packets[3:])
    assert set(np.diff([0, *ends])) <= {0, sizes[0] // 2, sizes[1] // 2, sum(sizes) // 4}
    adds = [0] * 3 + np.diff([0, *ends]).tolist() if right else [7] * len(packets)
    data = b"".join(struct.pack("<HH", len(one), more) + one for one, more in zip(packets, adds, strict=True))
    said = {**plain_said, "packet": "size 16, samples 16"}
    original = opened(data, said)
    assert KIND.rebuild(original) == data
    _, made = edited(original, samples[::-1].copy())
    again = opened(made, said)
    assert KIND.rebuild(again) == made
    told = (again.packets.heads >> 16).tolist()
    if right:
        assert told[3:] == np.diff([0, *again.packets.stream.positions(again.packets.sound)]).tolist()
    else:
        assert set(told) == {7}


def test_packets_that_do_not_fit_are_told() -> None:
    samples = music(RATE["vorbis"], 1)
    data = framed(taken_apart(stream("vorbis", samples)))
    said = {"codec": "vorbis", "rate": RATE["vorbis"], "packet": "size 16", "room": len(data) + 100}
    original = opened(data, said)
    assert "size" not in edited(original, samples * 0.9)[0]
    assert "size" in edited(original, np.concatenate([samples] * 3))[0]


def test_opus_in_packets_of_one_size() -> None:
    samples = music(24000, 1.5)
    packets = taken_apart(stream("opus", samples, 0.9))[2:]
    size = max(map(len, packets)) + 40
    data = b"".join(opus.padded(packet, size) for packet in packets)
    said = {"codec": "opus", "rate": 24000, "block": size, "samples": len(samples)}
    original = opened(data, said)
    # Padding is not heard (RFC 6716, 3.2.5), as libopus has it.
    assert np.array_equal(original.samples, heard(stream("opus", samples, 0.9)))
    _, made = edited(original, samples * 0.7)
    assert len(made) == len(data)
    wrong = ((opened(made, said).samples - samples * 0.7) ** 2).mean()
    assert 10 * np.log10(((samples * 0.7) ** 2).mean() / wrong) > 12


@pytest.mark.parametrize("more", [0, 1, 2, 3, 200, 256, 257, 258, 509, 511, 700])
def test_padding_of_any_length(more: int) -> None:
    packet = taken_apart(stream("opus", music(24000, 0.5)))[5]
    made = opus.padded(packet, len(packet) + more)
    assert len(made) == len(packet) + more
    assert opus.positions([made]) == opus.positions([packet])


@pytest.mark.parametrize("origin", ["member", "packets", "sound"])
@pytest.mark.parametrize("entry", ["offset 32", "sample 32, offset 32"])
def test_a_table_of_places_follows(origin: str, entry: str) -> None:
    samples = music(RATE["vorbis"], 2)
    packets = taken_apart(stream("vorbis", samples))
    sizes, short = [], len(packets[0]) and 1 << (packets[0][28] & 15)
    starts = np.cumsum([0, *(2 + len(one) for one in packets)])
    chosen = list(range(3, len(packets), 20))
    width = 8 if "sample" in entry else 4
    base = {"member": width * len(chosen), "packets": 0, "sound": -int(starts[3])}[origin]
    before = opened(framed(packets), {"codec": "vorbis", "rate": RATE["vorbis"], "packet": "size 16"})
    ends = [0, *before.packets.stream.positions(packets[3:])]
    assert short
    for at in chosen:
        offset = int(starts[at]) + base
        sizes.append(struct.pack("<II", ends[at - 3], offset) if width == 8 else struct.pack("<I", offset))
    said = {
        "codec": "vorbis", "rate": RATE["vorbis"], "packet": "size 16", "seek": entry, "seeks": len(chosen),
    }  # fmt: skip
    original = opened(b"".join(sizes) + framed(packets), said)
    assert KIND.rebuild(original) == original.raw
    _, made = edited(original, samples * 0.3)
    new = opened(made, said)  # every entry leads to a packet's beginning, or this is refused
    again = taken_apart(new.packets.ogg())
    places = np.cumsum([0, *(2 + len(one) for one in again)])
    for number in range(len(chosen)):
        place = struct.unpack_from("<I", made, number * width + width - 4)[0]
        zero = {"member": width * len(chosen), "packets": 0, "sound": -int(places[3])}[origin]
        assert place - zero in places
    wrong = bytearray(original.raw)
    wrong[width - 4] ^= 1
    with pytest.raises(FormatError, match="leads to no beginnings"):
        opened(bytes(wrong), said)


WRONG = [
    ({"packet": "size 16", "interleave": 4}, "a packet holds all channels"),
    ({}, "needs its 'packet'"),
    ({"packet": "length 16"}, "needs 'size'"),
    ({"packet": "size 16", "seeks": 4}, "said together"),
    ({"packet": "size 16", "codec": "opus", "rate": 22050}, "at 8000, 12000"),
    ({"packet": "size 16", "channels": 2}, "The headers say 1 channels"),
    ({"packet": "size 32"}, "it is said, of"),
    ({"packet": "size 16", "samples": 10**6}, "1,000,000 samples are said"),
    ({"packet": "size 16", "headers": "{nothing}"}, "is no name"),
    ({"packet": "size 16", "seek": "offset 32", "seeks": 10**6}, "does not fit"),
]


@pytest.mark.parametrize(("said", "words"), WRONG)
def test_what_cannot_be_so_is_told(said: dict[str, Any], words: str) -> None:
    data = framed(taken_apart(stream("vorbis", music(RATE["vorbis"], 0.5))))
    with pytest.raises(BraeError, match=words):
        opened(data, {"codec": "vorbis", "rate": RATE["vorbis"], **said})


@pytest.mark.parametrize("codec", ["vorbis", "opus"])
def test_damaged_packets_are_refused_or_heard(codec: str) -> None:
    """Bytes changed and cut off anywhere: an error of Brae's own, or a sound."""
    random = np.random.default_rng(3)
    packets = taken_apart(stream(codec, music(RATE[codec], 0.4)))[0 if codec == "vorbis" else 2 :]
    data = framed(packets)
    said = {"codec": codec, "rate": RATE[codec], "packet": "size 16"}
    for _ in range(60):
        broken = np.frombuffer(data, np.uint8).copy()
        places = random.integers(0, min(len(data), 5000), 3)
        broken[places] = random.integers(0, 256, 3)
        try:
            sound = opened(broken[: random.integers(1, len(data))].tobytes(), said)
            assert np.isfinite(sound.samples).all()
        except BraeError as error:
            assert str(error)


@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize(("bits", "subtype"), [(16, "PCM_16"), (24, "PCM_24")])
def test_frames_of_flac_without_a_header(bits: int, subtype: str, channels: int) -> None:
    samples = music(22050, 1.3, channels)
    file = io.BytesIO()
    soundfile.write(file, samples, 22050, format="FLAC", subtype=subtype)
    data = file.getvalue()
    frames = data[data.index(b"\xff\xf8") :]
    said = {"codec": "flac", "rate": 22050, "channels": channels, "bits": bits}
    for more in ({}, {"samples": len(samples)}):
        sound = opened(frames, {**said, **more})
        assert np.array_equal(sound.samples, heard(data))
        assert KIND.rebuild(sound) == frames
        assert edited(sound, sound.samples) == (set(), frames)
        _, made = edited(sound, np.round(samples * 16384) / 32768)
        again = opened(made, {**said, **more}).samples
        assert np.array_equal(again, np.round(samples * 16384) / 32768)
    with pytest.raises(BraeError):
        _ = opened(frames[100:200], said).samples


def test_a_flac_file_that_does_not_say_its_length() -> None:
    """Encoders that stream leave it 0 (RFC 9639, 8.2)."""
    samples = music(22050, 1.1)
    file = io.BytesIO()
    soundfile.write(file, samples, 22050, format="FLAC", subtype="PCM_16")
    data = bytearray(file.getvalue())
    data[21] &= 0xF0
    data[22:26] = bytes(4)
    sound = read(bytes(data))
    assert sound.frames == len(samples)
    assert np.array_equal(sound.samples, heard(file.getvalue()))
    assert sound.data == data


# ---- tags ---------------------------------------------------------------------------------------------------


def commented(lines: list[bytes]) -> bytes:
    """A list of comments (Vorbis I, 5.2.1)."""
    vendor = struct.pack("<I", 4) + b"test"
    return vendor + struct.pack("<I", len(lines)) + b"".join(struct.pack("<I", len(one)) + one for one in lines)


def tagged_flac(samples: np.ndarray, lines: list[bytes], places: int = 0) -> bytes:
    file = io.BytesIO()
    soundfile.write(file, samples, 22050, format="FLAC", subtype="PCM_16")
    data = file.getvalue()
    more = commented(lines)
    table = b"\xff" * 8 + bytes(10)
    blocks = [
        (4, more),
        (3, b"".join(struct.pack(">QQH", 4096 * k, 0, 4096) for k in range(places)) + table),
        (2, b"SKRYabcd"),
    ]
    info, at, last = data[4:42], 42, data[4] & 0x80
    while not last:
        last = data[at] & 0x80
        at += 4 + int.from_bytes(data[at + 1 : at + 4], "big")
    pieces = [
        bytes([kind | (0x80 if kind == 2 else 0)]) + len(one).to_bytes(3, "big") + one for kind, one in blocks
    ]
    return b"fLaC" + bytes([info[0] & 0x7F]) + info[1:] + b"".join(pieces) + data[at:]


def test_tags_and_places_of_flac_stay() -> None:
    samples = np.round(music(22050, 2) * 32768) / 32768
    data = tagged_flac(samples, [b"TITLE=Tide", b"LOOPSTART=4410", b"LOOPLENGTH=22050"], places=4)
    original = read(data)
    assert original.loops == [(4410, 26459)]
    longer = np.concatenate([samples, samples])
    sheet, made = KIND.match(original, Version(ExchangeFile("x.wav", plain(longer, 22050))), {})
    assert "loop" not in " ".join(finding.id for finding in sheet.findings)
    again = read(made.data)
    ((start, end),) = again.loops
    assert abs(start - 8820) < 300
    assert abs(end - 2 * 26459) < 600
    assert np.array_equal(again.samples, np.round(longer * 32768) / 32768)
    assert b"TITLE=Tide" in made.data
    assert b"SKRYabcd" in made.data
    # Each place of the table is where a frame begins (RFC 9639, 8.5), so a player that goes there finds one.
    table = made.data.index(b"\x03\x00\x00\x5a") + 4
    body = made.data.index(b"\xff\xf8")
    for k in range(4):
        sample, offset, size = struct.unpack_from(">QQH", made.data, table + 18 * k)
        assert sample <= 4096 * k < sample + size
        assert made.data[body + offset : body + offset + 2] == b"\xff\xf8"
    assert struct.unpack_from(">Q", made.data, table + 72)[0] == 2**64 - 1


@pytest.mark.parametrize("codec", ["vorbis", "opus"])
def test_tags_of_ogg_stay(codec: str) -> None:
    rate = RATE[codec]
    samples = music(rate, 1.5)
    file = soundfile.SoundFile(target := io.BytesIO(), "w", rate, 1, format="OGG", subtype=codec.upper())
    file.title, file.artist = "Tide", "Keeper " * 60
    file.write(samples)
    file.close()
    original = read(target.getvalue())
    _, made = KIND.match(original, Version(ExchangeFile("x.wav", plain(samples * 0.4, rate))), {})
    again = soundfile.SoundFile(io.BytesIO(made.data))
    assert (again.title, again.artist) == ("Tide", ("Keeper " * 60))
    assert ((heard(made.data) - samples * 0.4) ** 2).mean() < 0.05 * (samples**2).mean() * 0.16
    assert 0.6 < len(made.data) / len(original.data) < 1.5


def test_an_edit_of_ogg_has_the_originals_quality() -> None:
    for level in (0.1, 0.5, 0.9):
        file = stream("vorbis", music(RATE["vorbis"], 2), level)
        original = read(file)
        changed = music(RATE["vorbis"], 2)[::-1].copy()
        _, made = KIND.match(original, Version(ExchangeFile("x.wav", plain(changed, 22050, "PCM_24"))), {})
        assert taken_apart(made.data)[2] == taken_apart(file)[2]
        assert 0.8 < len(made.data) / len(file) < 1.25


def test_an_edit_without_a_sample_is_told() -> None:
    none = Version(ExchangeFile("x.wav", plain(np.zeros((0, 1)), 22050)))
    flac = tagged_flac(np.round(music(22050, 1) * 32768) / 32768, [b"TITLE=Tide"], places=3)
    with pytest.raises(FormatError, match="not a single sample"):
        KIND.match(read(flac), none, {})
    for codec in ("vorbis", "opus"):
        body = framed(taken_apart(stream(codec, music(RATE[codec], 1)))[0 if codec == "vorbis" else 2 :])
        original = opened(body, {"codec": codec, "rate": RATE[codec], "packet": "size 16"})
        with pytest.raises(FormatError, match="not a single sample"):
            KIND.match(original, none, {})
