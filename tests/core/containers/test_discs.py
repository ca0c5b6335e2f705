"""Disc images: made by genisoimage, xorriso and pycdlib, changed by Brae, read back by them."""

from __future__ import annotations

import io
import random
import subprocess
from pathlib import Path

import pycdlib
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from brae.core.containers.iso9660 import Disc
from brae.core.containers.recognise import recognise
from brae.core.errors import BraeError, FormatError, LayoutError
from brae.core.layouts.edits import Edits
from brae.core.layouts.library import Library
from brae.core.layouts.segments import New, Ranges, Take, whole
from brae.core.sources import BytesSource, FileSource
from brae.core.sources.sectors import RAW, SectorView, wrong_sectors
from tests.core.containers.discs import edc, iso_image, raw_image, sector

FILES = {f"data/file{k}.bin": random.Random(k).randbytes(900 * k) for k in range(12)}
FILES |= {"menus/deep/er/tide_table.txt": b"low water " * 30, "read.me": b"hello"}


def _folder(root: Path) -> Path:
    for name, data in FILES.items():
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_bytes(data)
    return root


@pytest.fixture(scope="module")
def images(tmp_path_factory: pytest.TempPathFactory) -> dict[str, bytes]:
    """The same files in images of several makers and kinds."""
    root = tmp_path_factory.mktemp("discs")
    source = _folder(root / "source")
    made = {
        "plain": iso_image(source, root / "plain.iso", "-iso-level", "3", "-relaxed-filenames", "-allow-lowercase"),
        "joliet": iso_image(source, root / "joliet.iso", "-J", "-joliet-long"),
    }
    subprocess.run(
        ["xorriso", "-as", "mkisofs", "-quiet", "-J", "-o", root / "x.iso", source], check=True, capture_output=True
    )
    made["xorriso"] = (root / "x.iso").read_bytes()
    iso = pycdlib.PyCdlib()
    iso.new(joliet=3)
    for number, (name, data) in enumerate(FILES.items()):
        folder = ""
        for step in name.split("/")[:-1]:
            folder += f"/{step}"
            if not iso_has(iso, folder):
                iso.add_directory(folder.upper(), joliet_path=folder)
        base = f"{folder.upper()}/F{number}.;1"
        iso.add_fp(io.BytesIO(data), len(data), base, joliet_path=f"/{name}")
    stream = io.BytesIO()
    iso.write_fp(stream)
    iso.close()
    made["pycdlib"] = stream.getvalue()
    made["raw mode 1"] = raw_image(made["joliet"])
    made["raw mode 2"] = raw_image(made["joliet"], 2)
    return made


def iso_has(iso: pycdlib.PyCdlib, folder: str) -> bool:
    """Whether an image has a folder already."""
    try:
        iso.get_record(joliet_path=folder)
    except pycdlib.pycdlibexception.PyCdlibInvalidInput:
        return False
    return True


KINDS = ["plain", "joliet", "xorriso", "pycdlib", "raw mode 1", "raw mode 2"]


def _disc(data: bytes) -> Disc:
    return Disc(BytesSource(data))


def _changed(disc: Disc, wanted: dict[str, bytes], *, in_place: bool = False) -> bytes:
    edits = Edits({disc.index_of(name): disc.pack(disc.index_of(name), data) for name, data in wanted.items()})
    return b"".join(disc.compose(edits, in_place=in_place).read("main"))


def _content(disc: Disc) -> dict[str, bytes]:
    return {name: disc.read(index) for index, name in enumerate(disc.names)}


def _by_pycdlib(image: bytes) -> dict[str, bytes]:
    """Every file of an image as pycdlib reads it, by its Joliet path."""
    iso = pycdlib.PyCdlib()
    iso.open_fp(io.BytesIO(image))
    found = {}
    for folder, _, files in iso.walk(joliet_path="/"):
        for name in files:
            path = f"{folder.rstrip('/')}/{name}"
            stream = io.BytesIO()
            iso.get_file_from_iso_fp(stream, joliet_path=path)
            found[path.lstrip("/").removesuffix(";1")] = stream.getvalue()
    iso.close()
    return found


@pytest.mark.parametrize("kind", KINDS)
def test_every_file_is_read_and_an_unchanged_rebuild_is_the_original(kind: str, images: dict[str, bytes]) -> None:
    data = images[kind]
    assert recognise(BytesSource(data), "x.img", Library()) == "disc"
    disc = _disc(data)
    assert _content(disc) == FILES
    assert disc.prove().exact
    assert _changed(disc, {}) == data


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=25)  # the independent writer of raw sectors is slow
@given(data=st.data())
def test_changed_files_fit_or_move_and_all_others_stay(
    kind: str, data: st.DataObject, images: dict[str, bytes]
) -> None:
    disc = _disc(images[kind])
    names = data.draw(
        st.sets(st.sampled_from([name for name, old in FILES.items() if old]), min_size=1, max_size=3)
    )
    wanted = {
        name: random.Random(7).randbytes(data.draw(st.sampled_from([1, 700, 2048, 5000, 10_300, 14_000, 40_000])))
        for name in names
    }
    made = _changed(disc, wanted)
    again = _disc(made)
    assert _content(again) == FILES | wanted
    cooked = again.source.read(0, again.source.size)
    if kind in ("joliet", "raw mode 1", "raw mode 2", "pycdlib"):
        assert _by_pycdlib(cooked) == FILES | wanted
    if kind.startswith("raw"):
        # An independent writer gives the same sectors, all of them.
        assert made == raw_image(cooked, int(kind[-1]))


@pytest.mark.parametrize("kind", KINDS)
def test_small_files_give_way_to_a_large_one_that_grows_a_little(kind: str, images: dict[str, bytes]) -> None:
    """Else a volume of hundreds of megabytes would move as a whole, and double the image, for one sector."""
    disc = _disc(images[kind])
    wanted = {"data/file11.bin": FILES["data/file11.bin"] + b"one sector more" * 50}
    again = _disc(_changed(disc, wanted))
    assert _content(again) == FILES | wanted
    moved = {name for name in FILES if again.offsets[again.index_of(name)] != disc.offsets[disc.index_of(name)]} - {
        "data/file0.bin"
    }
    assert "data/file11.bin" not in moved
    assert sum(len(FILES[name]) for name in moved) < len(FILES["data/file11.bin"])
    both = {name: data * 2 for name, data in FILES.items() if data}
    assert _content(_disc(_changed(disc, both))) == FILES | both, "all of them grow at once"


def test_xorriso_reads_a_file_that_moved(tmp_path: Path, images: dict[str, bytes]) -> None:
    (tmp_path / "new.iso").write_bytes(_changed(_disc(images["joliet"]), {"data/file3.bin": b"moved " * 9000}))
    subprocess.run(
        ["xorriso", "-osirrox", "on", "-indev", "new.iso", "-extract", "/data/file3.bin", "out"],
        check=True, capture_output=True, cwd=tmp_path,
    )  # fmt: skip
    assert (tmp_path / "out").read_bytes() == b"moved " * 9000


def test_the_image_grows_only_where_it_must_and_its_volume_says_so(images: dict[str, bytes]) -> None:
    disc = _disc(images["joliet"])
    grown = _changed(disc, {"data/file3.bin": bytes([7]) * 2_000_000})
    assert len(grown) > len(images["joliet"])
    iso = pycdlib.PyCdlib()
    iso.open_fp(io.BytesIO(grown))
    assert iso.pvd.space_size * 2048 == len(grown)
    iso.close()
    small = _changed(disc, {"data/file3.bin": bytes([7]) * 5000})
    assert len(small) == len(images["joliet"])


def test_only_the_sectors_that_change_are_written(images: dict[str, bytes]) -> None:
    data = images["raw mode 1"]
    disc = _disc(data)
    made = _changed(disc, {"data/file5.bin": b"x" + FILES["data/file5.bin"][1:]}, in_place=True)
    different = {place // RAW for place, (old, new) in enumerate(zip(data, made, strict=True)) if old != new}
    assert different == {int(disc.offsets[disc.index_of("data/file5.bin")]) // 2048}


def test_wrong_codes_elsewhere_are_kept(images: dict[str, bytes]) -> None:
    data = bytearray(images["raw mode 1"])
    disc = _disc(bytes(data))
    odd = int(disc.offsets[disc.index_of("read.me")]) // 2048
    data[odd * RAW + 2100] ^= 1
    made = _changed(_disc(bytes(data)), {"data/file5.bin": b"new"})
    assert wrong_sectors(BytesSource(made), 0, len(made) // RAW) == [odd]


def test_in_place_refuses_what_does_not_fit(images: dict[str, bytes]) -> None:
    with pytest.raises(LayoutError, match="does not fit"):
        _changed(_disc(images["plain"]), {"data/file1.bin": bytes(9000)}, in_place=True)


def test_a_file_of_several_extents_is_one_member(tmp_path: Path) -> None:
    """ECMA-119 6.5.1: all but the last are marked as not final (bit 7 of the flags)."""
    (tmp_path / "source").mkdir()
    (tmp_path / "source" / "big.bin").write_bytes(bytes(range(256)) * 40)
    (tmp_path / "source" / "other.bin").write_bytes(b"other")
    image = bytearray(iso_image(tmp_path / "source", tmp_path / "a.iso"))
    disc = _disc(bytes(image))
    file = disc._files[disc.index_of("BIG.BIN")]
    record = file.extents[0].record
    length = image[record]
    # The one record becomes two: five sectors are split 2 + 3; the records behind it move up.
    first, second = bytearray(image[record : record + length]), bytearray(image[record : record + length])
    sector_, size = file.extents[0].sector, file.extents[0].size

    def put(raw: bytearray, at: int, count: int, flags: int) -> None:
        raw[2:10] = at.to_bytes(4, "little") + at.to_bytes(4, "big")
        raw[10:18] = count.to_bytes(4, "little") + count.to_bytes(4, "big")
        raw[25] = flags

    put(first, sector_, 4096, 0x80)
    put(second, sector_ + 2, size - 4096, 0)
    end = record // 2048 * 2048 + 2048
    image[record:end] = (first + second + image[record + length : end])[: end - record]
    split = _disc(bytes(image))
    assert split.names == ["BIG.BIN", "OTHER.BIN"]
    assert split.read(0) == bytes(range(256)) * 40
    for new in (b"short", b"y" * 10_000, b"z" * 200_000):
        again = _disc(_changed(split, {"BIG.BIN": new}))
        assert _content(again) == {"BIG.BIN": new, "OTHER.BIN": b"other"}


def _with_form2(image: bytes) -> tuple[bytes, int]:
    """A mode 2 image whose first file lies in sectors of form 2 (2,324 bytes each), as films do."""
    disc = _disc(raw_image(image, 2))
    file = disc._files[disc.index_of("data/file9.bin")]
    raw = bytearray(raw_image(image, 2))
    rng = random.Random(3)
    for number in range(file.extents[0].sector, file.extents[0].sector + file.sectors):
        raw[number * RAW : (number + 1) * RAW] = sector(number, rng.randbytes(2324), 2, b"\1\2\x64\3")
    return bytes(raw), file.sectors


def test_form_2_files_are_members_with_their_subheaders(images: dict[str, bytes]) -> None:
    raw, count = _with_form2(images["joliet"])
    disc = _disc(raw)
    index = disc.index_of("data/file9.bin")
    old = disc.read(index)
    assert len(old) == count * 2336
    assert old[:8] == b"\1\2\x64\3" * 2
    assert disc.prove().exact
    assert b"".join(disc.rebuild({}).read("main")) == raw
    new = bytearray(old)
    new[2336 + 100] ^= 0xFF
    made = b"".join(disc.rebuild({index: disc.pack(index, bytes(new))}).read("main"))
    changed = [k for k in range(len(raw) // RAW) if raw[k * RAW :][:RAW] != made[k * RAW :][:RAW]]
    assert len(changed) == 1
    at = changed[0] * RAW
    assert made[at + 2348 : at + 2352] == edc(made[at + 16 : at + 2348])
    with pytest.raises(LayoutError, match="multiple"):
        disc.rebuild({index: disc.pack(index, b"odd size")})


def test_a_change_of_a_large_file_is_never_held_in_memory(tmp_path: Path, images: dict[str, bytes]) -> None:
    disc = _disc(images["raw mode 1"])
    (tmp_path / "new.bin").write_bytes(bytes(3_000_000))
    body = Ranges((Take(FileSource(tmp_path / "new.bin"), 0, 3_000_000), New(b"end")), disc.source)
    index = disc.index_of("data/file3.bin")
    composed = disc.rebuild({index: disc.pack(index, body)})
    assert sum(s.length for s in composed.segments["main"] if isinstance(s, New)) == 0
    again = _disc(b"".join(composed.read("main")))
    assert again.read(index) == bytes(3_000_000) + b"end"
    assert whole(body)[-3:] == b"end"


def test_sound_behind_the_data_forbids_growing(images: dict[str, bytes]) -> None:
    disc = _disc(images["raw mode 1"] + random.Random(1).randbytes(RAW * 4))
    with pytest.raises(LayoutError, match="sound tracks"):
        _changed(disc, {"data/file3.bin": bytes([7]) * 2_000_000})


def test_the_views_of_sectors_agree(images: dict[str, bytes]) -> None:
    view = SectorView(BytesSource(images["raw mode 2"]))
    assert view.read(0, view.size) == images["joliet"][: view.size]
    assert view.read(2047, 3) == images["joliet"][2047:2050]
    # The check value of CRC-32/CD-ROM-EDC in the catalogue of parametrised CRC algorithms.
    assert edc(b"123456789") == (0x6EC2EDC4).to_bytes(4, "little")


@given(data=st.data())
def test_any_damage_is_a_clear_error_or_harmless(data: st.DataObject, images: dict[str, bytes]) -> None:
    raw = bytearray(images["joliet"])
    low, high = 16 * 2048, 40 * 2048
    for _ in range(data.draw(st.integers(1, 8))):
        raw[data.draw(st.integers(low, high))] = data.draw(st.integers(0, 255))
    if data.draw(st.booleans()):
        del raw[data.draw(st.integers(1, len(raw) - 1)) :]
    try:
        disc = _disc(bytes(raw))
        for index in range(len(disc)):
            disc.read_start(index, 64)
        if len(disc) and disc.prove().exact:
            disc.rebuild({0: disc.pack(0, b"new")})
    except BraeError as error:
        assert len(str(error)) > 10


def test_a_folder_that_holds_itself_is_read_once(images: dict[str, bytes]) -> None:
    raw = bytearray(images["plain"])
    disc = _disc(bytes(raw))
    place = next(at for at, name in _records(disc) if name == b"menus")
    root = int.from_bytes(raw[16 * 2048 + 158 : 16 * 2048 + 162], "little")
    raw[place + 2 : place + 10] = root.to_bytes(4, "little") + root.to_bytes(4, "big")
    assert "read.me" in _disc(bytes(raw)).names
    raw[place + 2] ^= 1
    with pytest.raises(FormatError, match="byte orders"):
        _disc(bytes(raw))


def _records(disc: Disc) -> list[tuple[int, bytes]]:
    root = int.from_bytes(disc.source.read(16 * 2048 + 158, 4), "little")
    return [(at, raw[33 : 33 + raw[32]]) for at, raw in disc._directory(root, 2048)]
