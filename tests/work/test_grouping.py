"""The catalogue in groups: every item in one of them, each once, in its order. Pictures: scikit-image's."""

from __future__ import annotations

import time
import zipfile
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_new
from brae.core.errors import FormatError, WaitingError
from brae.work import Workspace
from brae.work.columns import Columns, Search
from brae.work.grouping import GROUPINGS, Group, grouping
from brae.work.opening import open_game
from tests.core.find.photos import pieces


@pytest.fixture
def project(workspace: Workspace, tmp_path: Path) -> str:
    """Two archives with a set of three maps, a picture that is there twice, and texts."""
    folder = tmp_path / "grouped"
    folder.mkdir()
    one, two, other = (picture[:64, :64] for picture in list(pieces().values())[:3])
    half = np.asarray(Image.fromarray(one).resize((32, 32), Image.Resampling.BOX))
    with zipfile.ZipFile(folder / "a.zip", "w") as archive:
        for name, picture in (("hull.dds", one), ("Hull_normal.dds", two), ("hull_rough.dds", other)):
            archive.writestr(f"boat/{name}", encode_new(picture, formats.get("rgba8"), 1))
        archive.writestr("read.txt", "the boat\n")
    with zipfile.ZipFile(folder / "b.zip", "w") as archive:
        archive.writestr("far/again.dds", encode_new(half, formats.get("rgba8"), 1))
        archive.writestr("far/hull_normal.dds", encode_new(other[::-1], formats.get("rgba8"), 1))
    return str(open_game(workspace, folder)["project"])


def _laid_out(workspace: Workspace, project: str, by: str, order: str = "name") -> tuple[Columns, list[str]]:
    held = workspace.catalogues.of(project)
    places = held.ordered(order, held.fitting(Search()))
    made = grouping(workspace, project, held, by)
    return held, [held.addresses[place] for place in made.ordered(places).tolist()]


def _groups(workspace: Workspace, project: str, by: str) -> list[Group]:
    held = workspace.catalogues.of(project)
    made = grouping(workspace, project, held, by)
    return made.groups(made.ordered(held.ordered("name", held.fitting(Search()))))


def _patiently(workspace: Workspace, project: str, by: str) -> list[Group]:
    until = time.monotonic() + 30
    while True:
        try:
            return _groups(workspace, project, by)
        except WaitingError:
            assert time.monotonic() < until
            time.sleep(0.1)


@pytest.mark.parametrize("by", GROUPINGS)
def test_every_item_is_in_one_group_in_its_order(workspace: Workspace, project: str, by: str) -> None:
    groups = _patiently(workspace, project, by)
    held, laid = _laid_out(workspace, project, by)
    assert sorted(laid) == sorted(held.addresses)
    assert sum(group.count for group in groups) == len(laid) == 6
    assert len({group.name for group in groups}) == len(groups)
    start = 0
    for group in groups:
        assert all(a < b for a, b in pairwise(laid[start : start + group.count]))
        start += group.count


def test_by_archive_folder_and_kind(workspace: Workspace, project: str) -> None:
    assert _groups(workspace, project, "archive") == [Group("a.zip", 4), Group("b.zip", 2)]
    assert _groups(workspace, project, "folder") == [Group("boat", 3), Group("far", 2), Group("", 1)]
    assert _groups(workspace, project, "kind") == [Group("texture", 5), Group("text", 1)]


def test_a_set_of_maps_is_of_one_folder_of_one_archive(workspace: Workspace, project: str) -> None:
    assert _groups(workspace, project, "maps") == [Group("boat/hull", 3), Group("", 3)]
    _, laid = _laid_out(workspace, project, "maps")
    assert laid[:3] == ["a.zip//boat/Hull_normal.dds", "a.zip//boat/hull.dds", "a.zip//boat/hull_rough.dds"]


def test_the_same_picture_in_another_size_stands_beside_it(workspace: Workspace, project: str) -> None:
    groups = _patiently(workspace, project, "picture")
    assert [group.count for group in groups] == [2, 4]
    _, laid = _laid_out(workspace, project, "picture")
    assert laid[:2] == ["a.zip//boat/hull.dds", "b.zip//far/again.dds"]


def test_nothing_is_grouped_by_what_is_not_known(workspace: Workspace, project: str) -> None:
    with pytest.raises(FormatError, match="weather"):
        _groups(workspace, project, "weather")
