"""Open standards written as layouts (docs/standards.md), each against a library that reads and writes it."""

from __future__ import annotations

import io
import json
import re
import tarfile
import wave
import zipfile
from collections.abc import Callable
from pathlib import Path

import mido
import numpy as np
import pycdlib
import pytest
import soundfile
import trimesh
from PIL import Image, PngImagePlugin

from brae.core.assets.texture.described import read
from brae.core.containers.described import Archive, open_archive
from brae.core.layouts.edits import Edits, NewMember
from brae.core.layouts.load import parse
from brae.core.sources import MAIN, BytesSource

TEXT = (Path(__file__).parents[2] / "docs" / "standards.md").read_text()
LAYOUTS = {
    block.split()[1].removeprefix("standard-"): parse(block)
    for block in re.findall(r"```yaml\n(.*?)```", TEXT, re.DOTALL)
}
Members = dict[str, bytes]
FILES = {"a.txt": b"the tide turns\n" * 40, "b/c.bin": bytes(range(256)) * 3, "empty": b"", "odd": b"xyz"}


def opened(name: str, data: bytes) -> Archive:
    """A file by its layout, proved."""
    archive = open_archive(LAYOUTS[name], {MAIN: BytesSource(data)})
    proof = archive.prove()
    assert proof.exact, proof.reason
    return archive


def contents(archive: Archive) -> Members:
    """Every member by its label (the names of chunks may stand several times)."""
    return {archive.labels[index]: archive.read(index) for index in range(len(archive))}


def edited(archive: Archive, changed: Members, added: Members | None = None, removed: str | None = None) -> bytes:
    """The archive with other members."""
    places = {label: index for index, label in enumerate(archive.labels)}
    edits = Edits(
        {places[name]: archive.pack(places[name], data) for name, data in changed.items()},
        [NewMember(name, archive.pack_new(name, data)) for name, data in (added or {}).items()],
        {places[removed]} if removed is not None else set(),
    )
    return b"".join(archive.rebuild(edits).read(MAIN))


# ---- ZIP and tar --------------------------------------------------------------------------------------------


def zipped(files: Members) -> bytes:
    found = io.BytesIO()
    with zipfile.ZipFile(found, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            archive.writestr(name, data, zipfile.ZIP_STORED if len(data) < 9 else None)
    return found.getvalue()


def unzipped(data: bytes) -> Members:
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        assert archive.testzip() is None
        return {info.filename: archive.read(info) for info in archive.infolist()}


def tarred(files: Members) -> bytes:
    found = io.BytesIO()
    with tarfile.open(fileobj=found, mode="w", format=tarfile.USTAR_FORMAT) as archive:
        for name, data in files.items():
            info = tarfile.TarInfo(name)
            info.size, info.mtime, info.mode = len(data), 1_700_000_000, 0o640
            archive.addfile(info, io.BytesIO(data))
    return found.getvalue()


def untarred(data: bytes) -> Members:
    with tarfile.open(fileobj=io.BytesIO(data)) as archive:
        found = {}
        for info in archive.getmembers():
            file = archive.extractfile(info)
            assert file is not None
            found[info.name] = file.read()
        return found


@pytest.mark.parametrize(
    ("name", "write", "again"), [("zip", zipped, unzipped), ("tar", tarred, untarred)], ids=["zip", "tar"]
)
def test_archives_are_read_changed_and_read_by_the_library_again(
    name: str, write: Callable[[Members], bytes], again: Callable[[bytes], Members]
) -> None:
    archive = opened(name, write(FILES))
    assert contents(archive) == FILES
    changed = {"a.txt": b"flood " * 900, "odd": b"not so odd"}
    data = edited(archive, changed, {"new/one.txt": b"slack water " * 30}, "b/c.bin")
    wanted = {name: changed.get(name, old) for name, old in FILES.items() if name != "b/c.bin"}
    wanted["new/one.txt"] = b"slack water " * 30
    assert again(data) == wanted
    assert contents(opened(name, data)) == wanted


def test_a_wrong_number_in_front_of_a_zip_member_is_no_proof() -> None:
    """The directory is right, the header before the member is not: a game may read either."""
    data = bytearray(zipped(FILES))
    data[22] ^= 1  # the real size in the first local header (APPNOTE 4.3.7)
    archive = open_archive(LAYOUTS["zip"], {MAIN: BytesSource(bytes(data))})
    proof = archive.prove()
    assert not proof.exact
    assert "in front of this member" in (proof.reason or "")


# ---- chunks -------------------------------------------------------------------------------------------------


def test_a_wav_is_its_chunks() -> None:
    samples = (np.sin(np.arange(4000) / 9) * 9000).astype(np.int16)
    found = io.BytesIO()
    with wave.open(found, "wb") as file:
        file.setparams((1, 2, 22050, 0, "NONE", ""))
        file.writeframes(samples.tobytes())
    archive = opened("riff", found.getvalue())
    assert contents(archive)["RIFF/data"] == samples.tobytes()
    louder = (samples[:3001] * 2).astype(np.int16)
    data = edited(archive, {"RIFF/data": louder.tobytes()}, {"RIFF/note": b"odd"})
    read_again, rate = soundfile.read(io.BytesIO(data), dtype="int16")
    assert rate == 22050
    assert np.array_equal(read_again, louder)


def test_a_png_is_its_chunks_with_their_checksums() -> None:
    picture = Image.fromarray((np.arange(30 * 20 * 3).reshape(20, 30, 3) % 251).astype(np.uint8))
    found, says = io.BytesIO(), PngImagePlugin.PngInfo()
    says.add_text("Title", "the pier")
    picture.save(found, "PNG", pnginfo=says)
    archive = opened("png", found.getvalue())
    pieces = contents(archive)
    assert next(iter(pieces)) == "IHDR"
    assert pieces["tEXt"] == b"Title\0the pier"
    data = edited(archive, {"tEXt": b"Title\0the longest pier of all"})
    again = Image.open(io.BytesIO(data))
    again.load()  # Pillow checks the CRC of every chunk
    assert again.info["Title"] == "the longest pier of all"
    assert np.array_equal(np.asarray(again), np.asarray(picture))


def test_a_glb_is_its_chunks() -> None:
    box = trimesh.creation.box()
    archive = opened("glb", box.export(file_type="glb"))
    pieces = contents(archive)
    assert list(pieces) == ["JSON", "BIN"]
    scene = json.loads(pieces["JSON"])
    place = scene["accessors"][scene["meshes"][0]["primitives"][0]["attributes"]["POSITION"]]
    start = scene["bufferViews"][place["bufferView"]].get("byteOffset", 0)
    floats = np.frombuffer(pieces["BIN"], "<f4", place["count"] * 3, start) * np.float32(2)
    moved = pieces["BIN"][:start] + floats.tobytes() + pieces["BIN"][start + floats.nbytes :]
    again = trimesh.load(io.BytesIO(edited(archive, {"BIN": moved})), file_type="glb", force="mesh")
    assert np.allclose(again.bounds, box.bounds * 2)


def test_a_midi_file_is_its_tracks() -> None:
    song = mido.MidiFile(ticks_per_beat=96)
    for note in (60, 67):
        song.tracks.append(mido.MidiTrack([mido.Message("note_on", note=note, time=10)] * 5))
    found = io.BytesIO()
    song.save(file=found)
    archive = opened("midi", found.getvalue())
    assert len(archive) == len(song.tracks)
    first = archive.read(0)
    data = edited(archive, {}, {"MTrk": first})
    again = mido.MidiFile(file=io.BytesIO(data))
    before = mido.MidiFile(file=io.BytesIO(found.getvalue()))
    assert [list(track) for track in again.tracks] == [list(before.tracks[k]) for k in (0, 1, 0)]


# ---- a volume -----------------------------------------------------------------------------------------------


def volume(files: Members) -> bytes:
    disc = pycdlib.PyCdlib()
    disc.new(interchange_level=3)
    disc.add_directory("/FOLDER")
    for name, data in files.items():
        disc.add_fp(io.BytesIO(data), len(data), f"/{name}")
    found = io.BytesIO()
    disc.write_fp(found)
    disc.close()
    return found.getvalue()


def test_files_at_the_top_of_a_volume() -> None:
    files = {"AFT.TXT;1": b"aft " * 900, "BOW.BIN;1": bytes(range(256)) * 17, "KEEL.X;1": b"k"}
    archive = opened("iso-root", volume(files))
    assert contents(archive) == files
    data = edited(archive, {"AFT.TXT;1": b"longer aft " * 900})
    disc = pycdlib.PyCdlib()
    disc.open_fp(io.BytesIO(data))
    for name, old in files.items():
        found = io.BytesIO()
        disc.get_file_from_iso_fp(found, iso_path=f"/{name}")
        assert found.getvalue() == (b"longer aft " * 900 if name.startswith("AFT") else old)
    assert disc.pvd.space_size == len(data) // 2048
    disc.close()


# ---- pictures -----------------------------------------------------------------------------------------------

PIXELS = np.random.default_rng(4).integers(0, 256, (21, 13, 4), np.uint8)


@pytest.mark.parametrize(("name", "mode"), [("bmp", "RGB"), ("tga", "RGB"), ("tga", "RGBA")])
def test_bitmaps_are_what_pillow_says(name: str, mode: str) -> None:
    channels = len(mode)
    found = io.BytesIO()
    Image.fromarray(PIXELS[..., :channels]).save(found, name.upper())
    texture = read(LAYOUTS[name], found.getvalue())
    assert np.array_equal(texture.picture()[..., :channels], PIXELS[..., :channels])
    assert texture.rewrite(texture.header, texture.levels) == found.getvalue()


def test_a_dds_is_what_pillow_says() -> None:
    found = io.BytesIO()
    Image.fromarray(np.repeat(np.repeat(PIXELS[:4, :4], 4, 0), 4, 1)).save(found, "DDS", pixel_format="DXT5")
    texture = read(LAYOUTS["dds"], found.getvalue())
    assert (texture.header.format.name, texture.header.width) == ("bc3", 16)
    theirs = np.asarray(Image.open(io.BytesIO(found.getvalue())))
    ours = texture.picture()
    # Interpolated colours may round either way (the guide leaves it open).
    assert int(np.abs(ours.astype(int) - theirs.astype(int)).max()) <= 1


def test_a_pcx_unpacks_to_what_pillow_says() -> None:
    indices = np.repeat(np.arange(40, dtype=np.uint8)[:, None] * 6, 50, 1)
    indices[5:9, 10:20] = np.arange(200, 240, dtype=np.uint8).reshape(4, 10)
    picture = Image.fromarray(indices, "P")
    picture.putpalette(bytes(range(256)) * 3)
    found = io.BytesIO()
    picture.save(found, "PCX")
    archive = opened("pcx", found.getvalue())
    assert np.array_equal(np.frombuffer(archive.read(0), np.uint8).reshape(40, 50), indices)
    other = np.flipud(indices)
    again = Image.open(io.BytesIO(edited(archive, {"content": other.tobytes()})))
    assert np.array_equal(np.asarray(again), other)


def test_every_standard_of_the_document_is_tested() -> None:
    source = Path(__file__).read_text()
    assert {name for name in LAYOUTS if f'"{name}"' not in source} == set()
