"""What is true of every kind that is registered."""

from __future__ import annotations

import zipfile
from pathlib import Path

import numpy as np
import pytest

from brae.core import catalogue
from brae.core.assets.base import HEAD, Context, ExchangeFile, Head, Query, Version, Viewed
from brae.core.assets.facts import Fact, Facts, declared, is_number, written
from brae.core.assets.registry import kind_of, kinds
from brae.core.assets.texture.files import sniff_texture, write_texture
from brae.core.assets.texture.formats import get
from brae.core.assets.texture.kind import KIND as TEXTURE
from brae.core.assets.texture.texture import Header
from brae.core.containers.base import Container
from brae.core.containers.nesting import open_path
from brae.core.errors import BraeError, NotFoundError
from brae.core.layouts.library import Library
from brae.core.layouts.load import parse
from tests.core.assets.material.test_material import LINES as STONE
from tests.core.assets.material.test_material import WALL
from tests.core.assets.mesh.models import LAYOUT, lighthouse
from tests.core.assets.mesh.models import written as model_file
from tests.core.assets.palette.test_palette import FILE as COLOURS
from tests.core.assets.palette.test_palette import LAYOUT as COLOURS_LAYOUT
from tests.core.assets.screen.test_screen import BUTTONS, menu
from tests.core.assets.screen.test_screen import LAYOUT as MENU
from tests.core.assets.sprite import writers
from tests.core.assets.swap.test_swaps import DRESS, LINES
from tests.core.assets.track.test_tracks import FORMS
from tests.core.assets.track.test_tracks import HEAD as TRACK

Models = tuple[Container, Library, list[catalogue.Item]]


@pytest.fixture(scope="session")
def harbour(made_demo: Path, library: Library) -> Container:
    """The demo's largest archive."""
    return open_path(made_demo / "data" / "harbour.kist", [], library).container


@pytest.fixture(scope="session")
def items(harbour: Container, library: Library) -> list[catalogue.Item]:
    """What is in it."""
    return list(catalogue.catalogue(harbour, library))


@pytest.fixture(scope="session")
def models(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Models]:
    """Archives of twelve items in invented forms, of the kinds that the demo's largest archive has none of."""
    folder = tmp_path_factory.mktemp("models")
    places, *rest = lighthouse()
    towers = {f"tower_{n}.shp": model_file((places * (1 + n), *rest), n) for n in range(12)}
    rng = np.random.default_rng(5)
    walks = {
        f"walk_{n}.{form[:3]}": getattr(writers, form)(
            writers.walker(rng, 3 + n if form != "gull" else 8), writers.palette(rng)
        )
        for n in range(4)
        for form in ("puff", "gull", "sheet")
    }
    return {
        "mesh": _archive(folder / "models.zip", towers, [LAYOUT]),
        "screen": _archive(
            folder / "menus.zip", {f"menu_{n}.men": menu(BUTTONS[: n % 4]) for n in range(12)}, [MENU]
        ),
        "palette": _archive(
            folder / "colours.zip",
            {f"colours_{n}.clr": COLOURS[:-2] + bytes([n, n]) for n in range(12)},
            [COLOURS_LAYOUT],
        ),
        "material": _archive(
            folder / "materials.zip",
            {f"wall_{n}.mat": STONE.replace("12", str(n)).encode() for n in range(12)},
            [WALL],
        ),
        "swap": _archive(
            folder / "swaps.zip",
            {f"dress_{n}.swp": LINES.replace(b"hull", b"hull_%d" % n) for n in range(12)},
            [DRESS],
        ),
        "track": _archive(
            folder / "mouths.zip",
            {f"line_{n}.{name}": FORMS[name][1] for n in range(3) for name in FORMS},
            [TRACK.format(name=name) + FORMS[name][0] for name in FORMS],
        ),
        "sprite": _archive(folder / "sprites.zip", walks, [writers.PUFF, writers.GULL, writers.SHEET]),
    }


def _archive(path: Path, files: dict[str, bytes], layouts: list[str]) -> Models:
    with zipfile.ZipFile(path, "w") as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    known = Library()
    for layout in layouts:
        known.add(parse(layout))
    container = open_path(path, [], known).container
    return container, known, list(catalogue.catalogue(container, known))


def test_kinds_are_found_by_themselves_and_in_order() -> None:
    assert list(kinds()) == [
        "texture",
        "screen",
        "sprite",
        "sound",
        "track",
        "swap",
        "material",
        "text",
        "mesh",
        "palette",
    ]
    for kind in kinds().values():
        assert kind_of(kind.id) is kind
        assert declared(kind.facts)
        assert kind.exchange or kind.rebuild.__qualname__.startswith("AssetKind"), "what is edited is written again"
        assert issubclass(kind.query, Query)
        assert {one.suffix for one in kind.exchange} == {one.suffix.lower() for one in kind.exchange}
    with pytest.raises(
        NotFoundError, match="texture, screen, sprite, sound, track, swap, material, text, mesh, palette"
    ):
        kind_of("smell")


@pytest.mark.parametrize("identifier", list(kinds()))
def test_every_item_of_a_kind_is_read_shown_and_written_again(
    identifier: str, harbour: Container, library: Library, items: list[catalogue.Item], models: dict[str, Models]
) -> None:
    kind = kinds()[identifier]
    harbour, library, items = models.get(identifier, (harbour, library, items))
    seen = 0
    for index, item in enumerate(items):
        if item.kind != identifier or item.fault or item.parts:
            continue
        data = harbour.read(index)
        context = Context(library, item.name)
        asset = kind.read(data, context)
        kind.facts.model_validate(item.facts)
        shown = kind.preview(Viewed(asset), kind.query())
        assert shown.data
        assert shown.media.split("/")[0] == kind.preview_media, kind.id
        if kind.exchange:
            assert kind.rebuild(asset) in (None, data), item.name
        seen += 1
        if seen > 40:
            break
    assert seen > 10


@pytest.mark.parametrize("identifier", [kind.id for kind in kinds().values() if kind.exchange])
def test_what_goes_out_and_comes_back_untouched_is_the_original(
    identifier: str, harbour: Container, library: Library, items: list[catalogue.Item], models: dict[str, Models]
) -> None:
    kind = kinds()[identifier]
    harbour, library, items = models.get(identifier, (harbour, library, items))
    chosen = [index for index, item in enumerate(items) if item.kind == identifier and not item.parts][:12]
    for index in chosen:
        data = harbour.read(index)
        asset = kind.read(data, Context(library, items[index].name))
        sent = kind.send(asset)
        assert kind.send(asset) == sent, "the same bytes every time"
        assert sent.suffix in kind.suffixes()
        kind.check_file(sent)
        sheet, made = kind.match(asset, Version(sent), kind.recipe(asset).model_dump())
        assert made.data == data, items[index].name
        assert not sheet.open_findings
        assert kind.tell(kind.recipe(asset).model_dump(), {}, sheet.model_dump(), {}, library).kind in (
            identifier,
            kind.id,
        )
    with pytest.raises(BraeError):
        kind.check_file(ExchangeFile(f"x{kind.suffixes()[0]}", b"\0\1\2\3" * 9))


def test_many_are_told_as_one_by_one(harbour: Container, library: Library, items: list[catalogue.Item]) -> None:
    heads = [
        Head(harbour.read_start(index, HEAD)[: int(harbour.real_sizes[index])], item.name, item.real)
        for index, item in enumerate(items)
    ]
    together = catalogue.tell(heads, library)
    assert together == [catalogue.tell([head], library)[0] for head in heads]
    for head, (kind, said) in zip(heads, together, strict=True):
        header = sniff_texture(head.data, library, head.name, head.size)
        assert (header is not None) == (kind == "texture")
        if header is not None:
            assert (said.type, said.facts["width"], said.facts["format"]) == (
                header.container,
                header.width,
                header.format.name,
            )


def test_headers_that_differ_in_what_matters_are_told_apart(library: Library) -> None:
    """Widths, formats and levels drawn at random, as DDS and as the demo's own type; cut heads and damage too."""
    rng = np.random.default_rng(5)
    heads, wanted = [], []
    for number in range(300):
        width, height = (int(2 ** rng.integers(2, 8)) for _ in range(2))
        name = str(rng.choice(["bc1", "bc3", "bgra8"]))
        header = Header("dds", get(name), width, height, 1)
        data = write_texture(header, [bytes(header.level_size(0))], dx10=bool(rng.integers(2)))
        if number % 2:
            code = {"bc1": 1, "bc3": 3, "bgra8": 8}[name]
            start = width.to_bytes(2, "little") + height.to_bytes(2, "little") + bytes([code, 1, 0, 0])
            size = header.level_size(0).to_bytes(4, "little")
            data = b"PTX2" + start + size + rng.bytes(4) + bytes(header.level_size(0))
        cut = int(rng.integers(3, 30)) if number % 17 == 0 else HEAD
        heads.append(Head(data[:cut], f"{number}.ptx" if number % 2 else f"{number}.dds", len(data)))
        wanted.append(None if cut < HEAD else (width, height, name))
    told = TEXTURE.sniff(heads, library)
    assert [
        None if one is None or one.fault else (one.facts["width"], one.facts["height"], one.facts["format"])
        for one in told
    ] == wanted
    assert all(one is not None and one.fault for one, want in zip(told, wanted, strict=True) if want is None)


class _Faulty(Facts):
    length: int | None = None


def test_a_field_without_a_fact_is_an_error_of_the_author() -> None:
    with pytest.raises(TypeError, match="length has no Fact"):
        declared(_Faulty)


def test_facts_are_written_with_their_words_and_units() -> None:
    assert written(Fact("Width", unit="pixels"), 2048) == "2,048 pixels"
    assert written(Fact("Format", case="capitals"), "bc7") == "BC7"
    assert written(Fact("Rows", words={"top-down": ""}), "top-down") == ""
    assert written(Fact("Hidden", line=False), 3) == written(Fact("Unknown"), None) == ""
    assert is_number(TEXTURE.facts, "width")
    assert not is_number(TEXTURE.facts, "format")
