"""The stand-in is as strict as a game: each kind of damage is told apart."""

from __future__ import annotations

import io
import struct
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from PIL import Image

from brae.core.assets.base import Context
from brae.core.assets.material.matching import set_value
from brae.core.assets.registry import kinds
from brae.core.assets.sound.loops import jump
from brae.core.assets.sound.sound import read as read_sound_file
from brae.core.containers.nesting import open_path
from brae.core.layouts.library import Library
from brae.demo import art, desktop, disc, models, speech
from brae.demo.standin import Report, play, recognises, shapes
from brae.demo.standin.harbour import TABLE
from brae.demo.standin.loader import read_finish
from brae.demo.standin.menus import walk, ways
from brae.demo.standin.report import Refusal


def test_the_demo_plays(made_demo: Path) -> None:
    report = play(made_demo)
    assert (report.refused, report.placeholders) == (None, {})
    assert report.trace[-1] == "scene drawn with 42 of 42 textures"
    assert "textures/weather/sign_01.ptx: the loose file is used" in report.trace
    assert "textures/signs/mossbay.ptx: taken from lantern" in report.trace
    assert recognises(made_demo)
    assert not recognises(made_demo / "data")


def _index(game: Path, change: Callable[[bytearray], None]) -> None:
    """Change the index and put its checksums right, as a careless tool would."""
    path = game / "data/harbour.kist"
    data = bytearray(path.read_bytes())
    change(data)
    count, names_at = struct.unpack_from("<I", data, 8)[0], struct.unpack_from("<I", data, 16)[0]
    data[24:28] = struct.pack("<I", zlib.crc32(data[names_at:], zlib.crc32(data[64 : 64 + 24 * count])))
    data[48:52] = struct.pack("<I", zlib.adler32(data[:48]))
    path.write_bytes(data)


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        (lambda data: data.__setitem__(slice(0, 4), b"KISS"), "begin with KIST"),
        (lambda data: data.__setitem__(4, 3), "version 3"),
        (lambda data: data.__setitem__(8, data[8] ^ 1), "do not make up"),
        (lambda data: data.__setitem__(20, data[20] ^ 1), "bytes, the index says"),
        (lambda data: data.__setitem__(64 + 4, data[64 + 4] ^ 1), "where it may not"),
        (lambda data: data.__setitem__(64 + 24, data[64]), "twice"),
    ],
)  # fmt: skip
def test_a_broken_index_is_refused(game: Path, change: Callable[[bytearray], None], reason: str) -> None:
    _index(game, change)
    report = play(game)
    assert report.refused is not None
    assert reason in report.refused
    assert report.scene[:4] == b"\x89PNG"


def test_checksums_are_checked(game: Path) -> None:
    for place, reason in ((30, "header's checksum"), (70, "directory's checksum")):
        path = game / "data/harbour.kist"
        good = path.read_bytes()
        data = bytearray(good)
        data[place] ^= 1
        path.write_bytes(data)
        assert reason in (play(game).refused or "")
        path.write_bytes(good)
    (game / "skerry.cfg").write_text("[nothing]\n")
    assert "skerry.cfg" in (play(game).refused or "")


def test_a_damaged_member_is_refused(game: Path) -> None:
    path = game / "data/harbour.hold"
    data = bytearray(path.read_bytes())
    place = data.find(b"PTX2")  # the first texture that is not packed
    data[place + 40 : place + 60] = b"\xff" * 20
    path.write_bytes(data)
    report = play(game)
    assert report.refused is None or "checksum" in report.refused


def _sail(side: int, name: str, levels: int | None) -> bytes:
    return desktop.ptx(np.zeros((side, side, 4), np.uint8), name, levels)


@pytest.mark.parametrize(
    ("name", "make", "reason"),
    [
        ("textures/boat/sail.ptx", lambda: _sail(128, "bc3", None), "128 x 128"),
        ("textures/boat/sail.ptx", lambda: _sail(256, "bc1", None), "format 1"),
        ("textures/boat/sail.ptx", lambda: _sail(256, "bc3", 1), "1 levels"),
        ("textures/boat/sail.ptx", lambda: _sail(256, "bc3", None) + b"x", "bytes, the table says"),
        ("textures/boat/sail.ptx", lambda: b"a text", "no PTX2"),
        ("textures/boat/Sail.ptx", lambda: b"", "in none of the archives"),
    ],
)
def test_a_wrong_texture_shows_the_placeholder(
    game: Path, name: str, make: Callable[[], bytes], reason: str
) -> None:
    content = {f"textures/{key.removeprefix('textures/')}": b"unused" for key in TABLE}
    content.pop("textures/boat/sail.ptx")
    content[name] = make()
    desktop.write_pair(game / "data", "harbour", sorted(content.items()))
    report = play(game)
    assert report.refused is None
    assert reason in report.placeholders["textures/boat/sail.ptx"]


def test_pictures_are_worth_looking_at(made_demo: Path) -> None:
    """Not grey squares: every drawing has many colours and uses its whole surface."""
    for drawing in desktop._drawings():
        picture = drawing.draw()
        colours = len(np.unique(picture.reshape(-1, 4), axis=0))
        assert colours > 8, drawing.name
    tile = art.water(np.random.default_rng(1), 64)
    seam = np.abs(tile[:, 0].astype(int) - tile[:, -1]).mean()
    inside = np.abs(np.diff(tile.astype(int), axis=1)).mean()
    assert seam < 3 * inside + 4, "tiles have no seam"


def test_making_the_disc_tells_how_far_it_is(tmp_path: Path) -> None:
    class Counts:
        def __init__(self) -> None:
            self.told: list[list[object]] = []

        def begin(self, total: int, unit: str) -> None:
            self.told.append([unit, total, 0])

        def tick(self, amount: int = 1) -> None:
            self.told[-1][2] += amount  # type: ignore[operator]

    counts = Counts()
    disc.generate(tmp_path, screens=40, members=96, film=12, ticker=counts)
    assert [unit for unit, _, _ in counts.told] == ["screens made", "files made", "sectors"]
    assert all(total >= done > 0 for _, total, done in counts.told)  # type: ignore[operator]


def _with_object(game: Path, kind: str, path: str, data: bytes | None) -> Report:
    """The demo's bundle with another object, or without it; what the game makes of it."""
    objects = [
        (one, name, owner if data is not None else -1, data if (one, name) == (kind, path) else own)
        for one, name, owner, own in [*desktop._figures(), *desktop._voices(), *desktop._models()]
        if data is not None or (one, name) != (kind, path)
    ]
    (game / "data/figures.bundle").write_bytes(desktop.bundle(objects))  # type: ignore[arg-type]
    return play(game)


def _with_material(game: Path, name: str, text: str | None) -> None:
    _with_object(game, "txt", f"materials/{name}", None if text is None else text.encode())


MATERIAL = "[material]\ncolour = figures/{}\nambient = 0.4 0.4 0.5\nhighlight = {}\ntwo_sided = no\n"


def test_a_material_dresses_a_figure(game: Path) -> None:
    before = play(game).scene
    _with_material(game, "keeper", MATERIAL.format("cooper", 0.2))
    again = play(game)
    assert again.refused is None
    assert again.scene != before


def test_a_missing_texture_shows_the_placeholder_and_a_missing_material_nothing(game: Path) -> None:
    _with_material(game, "keeper", MATERIAL.format("nobody", 0.2))
    report = play(game)
    assert report.placeholders["figure keeper"] == "materials/keeper names figures/nobody: not there"
    _with_material(game, "keeper", None)
    report = play(game)
    assert (report.refused, report.placeholders) == (None, {})
    assert "materials/keeper is not there: nothing is drawn of the keeper" in report.trace


@pytest.mark.parametrize(
    ("text", "reason"),
    [
        (MATERIAL.format("keeper", 7), "has no colour, ambient, highlight"),
        (MATERIAL.format("keeper", 0.2) + "colour = again\n", "line 6"),
        (MATERIAL.format("keeper", 0.2).replace("=", ":"), "line 2"),
        (MATERIAL.format("k\u00e9eper", 0.2), "no plain text"),
    ],
)
def test_a_material_that_the_game_does_not_take_stops_it(game: Path, text: str, reason: str) -> None:
    _with_material(game, "keeper", text)
    assert reason in (play(game).refused or "")


# ---- what is heard


def test_voices_are_heard_and_their_mouths_move_as_brae_reads_them(game: Path, library: Library) -> None:
    """Two readers that share no code: the stand-in's, and a layout."""
    report = play(game)
    assert [line.fault for line in report.lines] == [""] * 5
    bundle = open_path(game / "data/figures.bundle", [], library).container
    for line in report.lines[:3]:
        name = f"{line.name}.mth"
        track = kinds()["track"].read(bundle.read(bundle.index_of(name)), Context(library, name)).track
        moves = [(one.start, one.end) for one in track.phonemes]
        assert moves == [(start, end) for start, end, _ in line.moves]
        assert len({shape for _, _, shape in line.moves}) > 5
        sound, rate = soundfile.read(io.BytesIO(line.sound))
        assert track.seconds <= len(sound) / rate + 0.01
    width = Image.open(io.BytesIO(report.faces["keeper"])).width
    assert width % 15 == 0


def _recorded(rate: int = 22050, channels: int = 1, subtype: str = "PCM_16") -> bytes:
    stream = io.BytesIO()
    soundfile.write(stream, np.zeros((rate, channels)), rate, format="WAV", subtype=subtype)
    return stream.getvalue()


def _out_of_order() -> bytes:
    data = _recorded()
    return data[:12] + data[36:] + data[12:36]


@pytest.mark.parametrize(
    ("kind", "data", "reason"),
    [
        ("wav", _recorded(44100), "has 44100 Hz"),
        ("wav", _recorded(channels=2), "has 2 channels"),
        ("wav", _recorded(subtype="FLOAT"), "of form 3 and 32 bits"),
        ("wav", _out_of_order(), "samples before it says what they are"),
        ("wav", b"OggS", "is no WAVE file"),
        ("mth", b"MOUT\0\0\1\0", "has 8 bytes for 1 moves"),
        ("mth", b"MOUT\0\0\1\0" + bytes([1, 0, 5, 0, 99, 0]) + bytes(12), "shape 99, which there is not"),
        (
            "mth",
            b"MOUT\0\0\2\0" + (bytes([1, 0, 5, 0, 2, 0]) + bytes(12)) * 2,
            "before the one before it has ended",
        ),
    ],
)
def test_what_the_game_does_not_play_is_said(game: Path, kind: str, data: bytes, reason: str) -> None:
    report = _with_object(game, kind, "voices/ishbel_1", data)
    assert report.refused is None
    assert reason in report.lines[0].fault
    assert [line.fault for line in report.lines[1:]] == [""] * 4


def test_a_bell_is_rung_on_by_its_loop(game: Path, library: Library) -> None:
    harbour = open_path(game / "data/harbour.kist", [], library).container
    bell = read_sound_file(harbour.read(harbour.index_of("sounds/bell/00.wav")))
    start, end = bell.loops[0]
    assert jump(bell.samples, (start, end), bell.rate) == 0
    heard, _ = soundfile.read(io.BytesIO(play(game).lines[-2].sound))
    assert len(heard) == bell.frames + 2 * (end + 1 - start)
    assert np.array_equal(heard[: end + 1], bell.samples[: end + 1, 0])
    assert np.array_equal(heard[end + 1 : 2 * end + 2 - start], bell.samples[start : end + 1, 0])


@pytest.mark.parametrize("installed", [True, False])
def test_lines_are_spoken_with_and_without_espeak(installed: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    if not installed:
        monkeypatch.setattr(speech, "_fresh", lambda *_: None)
    for line in speech.LINES:
        samples, rate, words = speech.say(line)
        assert [word for word, _ in words] == line.text.split()
        spans = [span for _, phonemes in words for _, *span in phonemes]
        edges = [edge for span in spans for edge in span]
        assert edges == sorted(edges)
        assert edges[-1] <= len(samples) / rate + 0.01
        loud = [np.abs(samples[int(start * rate) : int(end * rate)]).max() for start, end in spans]
        assert np.median(loud) > 1000, "something is heard where something is said"


# ---- models


def _boat(**change: Any) -> bytes:
    """The boat's file with one number changed: of its head by ``at``, or an index."""
    data = bytearray(models.shape(models.boat(), 41))
    if "at" in change:
        struct.pack_into("<I", data, change["at"], change["number"])
    if "index" in change:
        struct.pack_into("<H", data, len(data) - 2, change["index"])
    if "high" in change:
        struct.pack_into("<f", data, 40 + 28 * 2 + 8, change["high"])
    return bytes(data[: change.get("cut", len(data))])


@pytest.mark.parametrize(
    ("data", "reason"),
    [
        (b"SHOP" + bytes(60), "does not begin with SHPE"),
        (_boat(at=12, number=3), "has 3 parts; the game expects 2"),
        (_boat(at=4, number=999), "bytes for 999 vertices"),
        (_boat(index=999), "names vertex 999"),
        (_boat(high=50.0), "lies outside of its box"),
        (_boat(cut=-1), "bytes for"),
        (_boat(at=44, number=7), "has indices"),
        (None, "models/boat.shp is missing"),
    ],
)
def test_models_are_loaded_strictly(game: Path, data: bytes | None, reason: str) -> None:
    assert reason in (_with_object(game, "shp", "models/boat", data).refused or "")


def test_a_model_without_its_material_or_texture(game: Path) -> None:
    before = play(game)
    assert "models/postwoman: 480 triangles in 3 parts, 102 from some way off" in before.trace
    hidden = _with_object(game, "txt", "materials/sail", None)
    assert hidden.refused is None
    assert "materials/sail is not there: nothing is drawn of it on the boat" in hidden.trace
    assert hidden.scene != before.scene
    text = models.material("skins/nothing", (0.4, 0.4, 0.4), 0.1, two_sided=True)
    lost = _with_object(game, "txt", "materials/sail", text)
    assert "sail of the boat" in lost.placeholders
    other = models.material("textures/harbour/jetty", (0.4, 0.4, 0.4), 0.1, two_sided=True)
    assert _with_object(game, "txt", "materials/sail", other).placeholders == {}


@pytest.mark.parametrize(
    ("data", "reason"),
    [
        (models.finish("figures/ishbel", (0.4, 0.4, 1.5), 0.1, two_sided=False), "no numbers that the game takes"),
        (models.finish("figures/ishbel", (0.4, 0.4, 0.4), 0.1, two_sided=False)[:-1], "is no finish"),
    ],
)
def test_finishes_are_read_strictly(game: Path, data: bytes, reason: str) -> None:
    assert reason in (_with_object(game, "fin", "finishes/coat", data).refused or "")


def test_a_finish_is_a_material_whose_colour_is_three_fields(game: Path, library: Library) -> None:
    """Changed by its layout, and read by the game's own code."""
    data = models.finish("figures/ishbel", (0.25, 0.5, 0.75), 0.1, two_sided=False)
    kind = kinds()["material"]
    asset = kind.read(data, Context(library, "finishes/coat.fin"))
    assert [one.value for one in asset.values()] == ["figures/ishbel", "0.25 0.5 0.75", "0.1", "0"]
    made = set_value(asset, "ambient_red+ambient_green+ambient_blue", "1 0.5 0").encode()
    cloth = read_finish(made, "finishes/coat")
    assert cloth.ambient == (1.0, 0.5, 0.0)
    assert read_finish(data, "finishes/coat").ambient == (0.25, 0.5, 0.75)
    assert sum(one != two for one, two in zip(made, data, strict=True)) <= 12


def test_the_demos_models_are_proved_by_their_layout(game: Path, library: Library) -> None:
    bundle = open_path(game / "data/figures.bundle", [], library).container
    for name, parts in shapes.TABLE.items():
        walks = name == "postwoman"
        file = f"models/{name}.{'wlk' if walks else 'shp'}"
        data = bundle.read(bundle.index_of(file))
        model = kinds()["mesh"].read(data, Context(library, file))
        assert kinds()["mesh"].rebuild(model) == data
        assert len(model.near.parts) == parts
        near, far = shapes.read_walker(data, name, parts) if walks else (shapes.read_shape(data, name, parts), [])
        own = [*near, *far]
        assert [len(some) for _, some in own] == [part.count for part in model.mesh.parts]
        point = own[0][1][0][0].point
        assert model.mesh.positions[model.mesh.corners[0, 0]] == pytest.approx(point, abs=1e-6)


def test_walkers_and_swaps_that_do_not_fit_stop_the_game(game: Path, library: Library) -> None:
    bundle = open_path(game / "data/figures.bundle", [], library).container
    data = bundle.read(bundle.index_of("models/postwoman.wlk"))
    at = data.index(b"hip\0")
    bones = kinds()["mesh"].read(data, Context(library, "models/postwoman.wlk")).mesh.bones
    assert [bone.name for bone in bones] == ["ground", "hip", "chest", "head", "bag"]
    for wrong, words in (
        (data[:at] + b"leg" + data[at + 3 :], "movements are made for"),
        (data[:-1], "bytes for"),
        (b"WALL" + data[4:], "does not begin"),
        (data[: 32 + 28 * 5 + 20] + b"\1" + data[32 + 28 * 5 + 21 :], "2 parts near by"),
    ):
        with pytest.raises(Refusal, match=words):
            shapes.read_walker(wrong, "models/postwoman", 3)
    swaps = {"swaps/harbour.txt": b"; none\nboat: hull -> sail\n*: sail -> lamp\n"}
    told = shapes.read_swaps(swaps)
    assert [shapes.worn(told, "boat", "hull"), shapes.worn(told, "lighthouse", "hull")] == ["lamp", "hull"]
    with pytest.raises(Refusal, match="no swap"):
        shapes.read_swaps({"swaps/harbour.txt": b"hull is sail"})
    with pytest.raises(Refusal, match="goes round"):
        shapes.worn({("*", "a"): "b", ("*", "b"): "a"}, "boat", "a")


# ---- menus


def test_the_cursor_goes_to_the_nearest_that_way() -> None:
    boxes = [(0, 0, 10, 10, 0), (50, 2, 10, 10, 0), (0, 40, 10, 10, 0), (52, 44, 10, 10, 0), (24, 24, 4, 4, 0)]
    found = ways(boxes)
    assert found[0] == {"right": 4, "down": 2}
    assert found[1] == {"left": 4, "down": 3}
    assert found[3] == {"left": 4, "up": 1}
    assert found[4]["right"] == 1
    assert ways([]) == []
    assert ways([(0, 0, 4, 4, 0)] * 2) == [{}, {}], "none lies any way from the other"


def test_menus_are_walked_from_screen_to_screen() -> None:
    picture = Image.new("RGBA", (96, 64))
    screens = {7: [(0, 0, 8, 8, 8, 0), (0, 20, 8, 8, 99, 0), (0, 40, 8, 8, 9, 1)], 8: [(4, 4, 8, 8, 7, 0)], 9: []}

    def screen(number: int) -> tuple[Image.Image, list[tuple[int, ...]]]:
        if number not in screens:
            raise Refusal(f"there is no screen {number}")
        return picture, screens[number]

    report = Report()
    walk(7, screen, report)
    assert list(report.menus) == [7, 8], "9 is opened by none, 99 is not there"
    assert report.menus[7].targets == [8, 99, 9]
    assert report.menus[7].does == ["opens", "opens", "goes back"]
    assert report.menus[7].ways == [{"down": 1}, {"up": 0, "down": 2}, {"up": 1}]
    assert "the way to screen 99 ends: there is no screen 99" in report.trace
    many = Report()
    walk(0, lambda number: (picture, [(0, 0, 8, 8, number + 1, 0)]), many)
    assert len(many.menus) == 40, "of an endless chain only so much"
