"""What an archive's records say of their members: kind and facts, for members whose own bytes tell nothing.

References: the archives are written here by ``struct``, samples are read by libsndfile (RAW), pixels by numpy.
"""

from __future__ import annotations

import io
import struct
from pathlib import Path

import numpy as np
import pytest
import soundfile

from brae.core.assets.base import Context, ExchangeFile, Version
from brae.core.assets.registry import kinds
from brae.core.assets.said import check
from brae.core.assets.sound.sound import plain
from brae.core.assets.texture.files import write_image
from brae.core.catalogue import Item, catalogue
from brae.core.containers.described import Archive, open_archive
from brae.core.errors import LayoutError
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse
from brae.core.sources import BytesSource
from brae.store.models import Member
from brae.work import Workspace, builds
from brae.work.edits import exchange_file, put_in_work, take_file
from brae.work.opening import open_game

LAYOUT = """
layout: chest
title: Chests
kind: archive
parts:
  - {field: magic, type: bytes, length: 4, value: "CHST"}
  - {field: count, type: u32, is: count(list)}
  - table: list
    count: count
    record:
      - {field: name, type: string, length: 8, role: name}
      - {field: tag, type: bytes, length: 4}
      - {field: one, type: u16}
      - {field: two, type: u16}
      - {field: at, type: u32, role: offset}
      - {field: size, type: u32, role: stored-size}
  - members: data
    of: list
    kind: {of: tag, values: {"PIX ": texture, "WAVE": sound, "FILE": ""}}
    facts: FACTS
"""
TEXTURES = "{width: one, height: two, format: bgra8}"
SOUNDS = "{rate: one * 10, channels: two, endian: big}"
PIXELS = np.random.default_rng(2).integers(0, 256, (6, 10, 4), dtype=np.uint8)


def chest(members: list[tuple[str, bytes, int, int, bytes]]) -> bytes:
    """An archive as the layout describes it: name, tag, two numbers, data of each member."""
    at, rows, body = 8 + 24 * len(members), b"", b""
    for name, tag, one, two, data in members:
        rows += struct.pack("<8s4sHHII", name.encode(), tag, one, two, at + len(body), len(data))
        body += data
    return struct.pack("<4sI", b"CHST", len(members)) + rows + body


def _opened(facts: str, members: list[tuple[str, bytes, int, int, bytes]]) -> tuple[Archive, list[Item]]:
    archive = open_archive(parse(LAYOUT.replace("FACTS", facts)), {"main": BytesSource(chest(members))})
    assert archive.prove().exact
    return archive, list(catalogue(archive, Library()))


def _asset(archive: Archive, item: Item, index: int) -> object:
    context = Context(Library(), item.name, said=archive.said([index])[0])
    return kinds()[item.kind].read(archive.read(index), context)


def test_pixels_are_textures_because_their_records_say_so() -> None:
    members = [
        ("sail", b"PIX ", 10, 6, PIXELS[..., [2, 1, 0, 3]].tobytes()),
        ("note", b"FILE", 0, 0, b"words " * 9),
    ]
    archive, (sail, note) = _opened(TEXTURES, members)
    assert (sail.kind, sail.fault, note.kind) == ("texture", None, "text")
    assert (sail.facts["width"], sail.facts["height"], sail.facts["format"]) == (10, 6, "bgra8")
    asset = _asset(archive, sail, 0)
    assert (asset.picture() == PIXELS).all()  # type: ignore[attr-defined]
    kind = kinds()["texture"]
    assert kind.rebuild(asset) == archive.read(0)
    painted = PIXELS.copy()
    painted[1:3, 2:5, :3] = 7
    file = ExchangeFile("sail.png", write_image(painted))
    _, encoded = kind.match(asset, Version(file), kind.recipe(asset).model_dump())
    assert encoded.data == painted[..., [2, 1, 0, 3]].tobytes()


def test_a_fields_own_values_are_what_the_fact_means_and_a_word_is_itself() -> None:
    """``two`` has values; ``{is: height}`` is the role, though a field is called so."""
    data = PIXELS[..., [2, 1, 0, 3]].tobytes()
    text = LAYOUT.replace("{field: two, type: u16}", "{field: two, type: u16, values: {5: bgra8, 6: rgba8}}")
    text = text.replace("{field: one, type: u16}", "{field: height, type: u16}")
    layout = parse(text.replace("FACTS", "{width: 10, height: height, format: two, map: {is: height}}"))
    archive = open_archive(layout, {"main": BytesSource(chest([("sail", b"PIX ", 6, 5, data)]))})
    (sail,) = catalogue(archive, Library())
    said = (sail.facts["height"], sail.facts["format"], sail.facts["map"])
    assert (sail.fault, *said) == (None, 6, "bgra8", "height")
    archive = open_archive(layout, {"main": BytesSource(chest([("sail", b"PIX ", 6, 7, data)]))})
    with pytest.raises(LayoutError, match="what 'format' is where 'two' is 7"):
        archive.said([0])


def test_a_bare_member_may_be_a_cube() -> None:
    faces = np.random.default_rng(8).integers(0, 256, (6 * 4, 4, 4), dtype=np.uint8)
    facts = "{width: one, height: one, format: rgba8, faces: two, map: 'r=roughness a=height'}"
    archive, (sky,) = _opened(facts, [("sky", b"PIX ", 4, 6, faces.tobytes())])
    assert (sky.fault, sky.facts["map"]) == (None, "r=roughness a=height")
    assert (_asset(archive, sky, 0).picture() == faces).all()  # type: ignore[attr-defined]


@pytest.mark.parametrize("bits", [8, 16, 24, 32])
@pytest.mark.parametrize("endian", ["little", "big"])
def test_samples_are_sounds_because_their_records_say_so(bits: int, endian: str) -> None:
    count = 999
    wave = np.stack([np.sin(np.arange(count) / 11) * 0.5, np.cos(np.arange(count) / 7) * 0.4], axis=1)
    raw = io.BytesIO()
    subtype, order = ("PCM_S8" if bits == 8 else f"PCM_{bits}"), endian.upper()
    soundfile.write(raw, wave, 22050, format="RAW", subtype=subtype, endian=order)
    facts = f"{{rate: one * 10, channels: two, bits: {bits}, endian: {endian}, sign: signed}}"
    archive, (bell,) = _opened(facts, [("bell", b"WAVE", 2205, 2, raw.getvalue() + b"x")])
    assert (bell.kind, bell.fault) == ("sound", None)
    assert (bell.facts["rate"], bell.facts["channels"], bell.facts["bits"]) == (22050, 2, bits)
    kind, asset = kinds()["sound"], _asset(archive, bell, 0)
    reference, _ = soundfile.read(
        io.BytesIO(raw.getvalue()), format="RAW", subtype=subtype, endian=order, samplerate=22050, channels=2
    )
    assert np.allclose(asset.samples, reference, atol=1e-9)  # type: ignore[attr-defined]
    assert kind.rebuild(asset) == raw.getvalue() + b"x"
    quiet = ExchangeFile("bell.wav", plain(reference * 0.5, 22050, "PCM_24"))
    _, encoded = kind.match(asset, Version(quiet), kind.recipe(asset).model_dump())
    heard, _ = soundfile.read(
        io.BytesIO(encoded.data), format="RAW", subtype=subtype, endian=order, samplerate=22050, channels=2
    )
    assert len(heard) == count
    assert np.corrcoef(heard[:, 0], reference[:, 0])[0, 1] > 0.999
    assert np.allclose(kind.again(asset, encoded).samples, heard, atol=1e-9)


@pytest.mark.parametrize(("codec", "subtype"), [("a-law", "ALAW"), ("mu-law", "ULAW"), ("float", "FLOAT")])
def test_the_other_codecs_of_bare_samples(codec: str, subtype: str) -> None:
    raw = io.BytesIO()
    soundfile.write(raw, np.sin(np.arange(500) / 9) * 0.6, 8000, format="RAW", subtype=subtype)
    archive, (item,) = _opened(f"{{rate: one, codec: {codec}}}", [("a", b"WAVE", 8000, 1, raw.getvalue())])
    reference, _ = soundfile.read(
        io.BytesIO(raw.getvalue()), format="RAW", subtype=subtype, samplerate=8000, channels=1, always_2d=True
    )
    assert np.allclose(_asset(archive, item, 0).samples, reference, atol=1e-9)  # type: ignore[attr-defined]


@pytest.mark.parametrize(
    ("facts", "member", "words"),
    [
        ("{width: one, height: two}", ("a", b"PIX ", 2, 2, bytes(16)), "does not say the format of this texture"),
        ("{width: one, height: two, format: bgra9}", ("a", b"PIX ", 2, 2, bytes(16)), "bgra9"),
        ("{widht: one, height: two, format: bgra8}", ("a", b"PIX ", 2, 2, bytes(16)), "did you mean 'width'"),
        ("{width: one, height: two, format: bgra8}", ("a", b"PIX ", 2, 2, bytes(9)), "need 16 bytes"),
        ("{width: one, height: two, format: bgra8}", ("a", b"PIX ", 0, 2, bytes(9)), "width"),
        ("{rate: one, channels: two, bits: 12}", ("a", b"WAVE", 8000, 1, bytes(16)), "bits"),
    ],
)
def test_what_cannot_be_is_told_with_the_member(
    facts: str, member: tuple[str, bytes, int, int, bytes], words: str
) -> None:
    _, (item,) = _opened(facts, [member])
    assert words in (item.fault or "")


def test_a_value_without_a_meaning_is_told() -> None:
    archive = open_archive(
        parse(LAYOUT.replace("FACTS", TEXTURES)), {"main": BytesSource(chest([("a", b"ODD ", 1, 1, bytes(4))]))}
    )
    with pytest.raises(LayoutError, match="'tag' is 'ODD'"):
        archive.said([0])


@pytest.mark.parametrize(
    ("wrong", "words"),
    [
        ("kind: {of: tga, values: {1: texture}}", "'tga', which no field says; did you mean 'tag'"),
        ("about_kind: x", "about_kind"),
    ],
)
def test_a_layout_that_reads_what_is_not_there_is_refused(wrong: str, words: str) -> None:
    text = LAYOUT.replace("FACTS", TEXTURES)
    line = next(line for line in text.splitlines() if line.strip().startswith("kind: {"))
    with pytest.raises(LayoutError, match=words):
        parse(text.replace(line.strip(), wrong))
    with pytest.raises(LayoutError, match="facts of a kind"):
        parse(text.replace(line + "\n", ""))


KINDS = '{of: tag, values: {"PIX ": texture, "WAVE": sound, "FILE": ""}}\n    facts: FACTS'


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("FACTS", "{widht: one, height: two}", "'widht' is nothing of a texture or a sound; did you mean 'width'"),
        ("FACTS", "{width: one, format: bgra9}", "there is no pixel format 'bgra9'; did you mean 'bgra8'"),
        ("FACTS", "{codec: {of: two, values: {1: pcm, 2: lame}}}", "'codec' cannot be so: 'lame' is not known"),
        ('"WAVE": sound', '"WAVE": sounds', "There is no kind 'sounds'; did you mean 'sound'"),
        (KINDS, "texture\n    facts: {width: 1}", "'facts' of 'data' do not say the texture's height"),
        (KINDS, "text\n    facts: {width: 1}", "'width' is nothing of a text"),
    ],
)
def test_the_kinds_check_what_is_said_of_their_items(old: str, new: str, words: str) -> None:
    text = LAYOUT.replace(old, new).replace("FACTS", TEXTURES)
    parse(text)  # it reads well; only the kinds know better
    with pytest.raises(LayoutError, match=words) as caught:
        parse(text, check=check)
    assert caught.value.line is not None
    said = text.splitlines()[caught.value.line - 1]
    assert said.strip().startswith(("facts:", "kind:", "- members:"))


def test_such_a_texture_is_edited_built_and_restored(workspace: Workspace, tmp_path: Path) -> None:
    game = tmp_path / "holms"
    (game / "brae-layouts").mkdir(parents=True)
    (game / "brae-layouts/chest.yaml").write_text(LAYOUT.replace("FACTS", TEXTURES))
    before = chest(
        [("sail", b"PIX ", 10, 6, PIXELS.tobytes()), ("flag", b"PIX ", 2, 2, bytes(range(16)))],
    )
    (game / "chest.bin").write_bytes(before)
    assert open_game(workspace, game)["archives"] == 1
    address = "chest.bin//sail"
    with workspace.database.session() as session:
        assert session.query(Member).filter_by(address=address).one().kind == "texture"
    put_in_work(workspace, "holms", address)
    path = exchange_file(workspace, workspace.edit("holms", address))
    from PIL import Image

    pixels = np.array(Image.open(path))
    pixels[2:4, 2:4, :3] = (1, 2, 3)
    Image.fromarray(pixels).save(path)
    take_file(workspace, "holms", address, path.read_bytes(), path.name)
    assert workspace.edit("holms", address).state == "ready"
    builds.build(workspace, "holms")
    after = (game / "chest.bin").read_bytes()
    wanted = PIXELS.copy()
    wanted[2:4, 2:4, :3] = (3, 2, 1)  # the archive keeps blue first
    assert after == before.replace(PIXELS.tobytes(), wanted.tobytes())
    builds.restore(workspace, "holms")
    assert (game / "chest.bin").read_bytes() == before
