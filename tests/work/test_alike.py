"""Copies of what is edited, and the same edit for all of them. Pictures: scikit-image's photographs."""

from __future__ import annotations

import zipfile
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_new
from brae.core.errors import BraeError, FormatError
from brae.work import Workspace
from brae.work.alike import Copy, copies_of_edits, give_to
from brae.work.columns import Search
from brae.work.edits import exchange_file, put_in_work, set_remedies, take_file
from brae.work.finding import gathered
from brae.work.items import look_at
from brae.work.meant import open_findings
from brae.work.opening import open_game
from brae.work.telling import told, told_by
from tests.core.find.photos import pieces

FIRST, AGAIN, SMALLER, OTHER = "a.zip//one.dds", "b.zip//two.dds", "b.zip//small.dds", "b.zip//other.dds"


@pytest.fixture
def project(workspace: Workspace, tmp_path: Path) -> str:
    """Two archives: a texture, the very same again, at half its size in another format, and another one."""
    folder = tmp_path / "twice"
    folder.mkdir()
    one, other = (picture[:128, :128] for picture in list(pieces().values())[:2])
    half = np.asarray(Image.fromarray(one).resize((64, 64), Image.Resampling.BOX))
    same = encode_new(one, formats.get("bc1"), 1)
    with zipfile.ZipFile(folder / "a.zip", "w") as archive:
        archive.writestr("one.dds", same)
    with zipfile.ZipFile(folder / "b.zip", "w") as archive:
        archive.writestr("two.dds", same)
        archive.writestr("small.dds", encode_new(half, formats.get("bgra8"), 1))
        archive.writestr("other.dds", encode_new(other, formats.get("bc1"), 1))
    return str(open_game(workspace, folder)["project"])


def _painted(workspace: Workspace, project: str) -> bytes:
    put_in_work(workspace, project, FIRST)
    file = exchange_file(workspace, workspace.edit(project, FIRST))
    picture = Image.open(file).convert("RGB")
    picture.paste((250, 20, 20), (8, 8, 120, 60))
    picture.save(file)
    take_file(workspace, project, FIRST, file.read_bytes(), file.name)
    return file.read_bytes()


def test_the_same_bytes_are_known_at_once_and_other_sizes_after_a_look(workspace: Workspace, project: str) -> None:
    put_in_work(workspace, project, FIRST)
    found = copies_of_edits(workspace, project)
    assert found.of == {FIRST: [Copy(AGAIN, exact=True, edited=False, same=False)]}
    assert not found.compared
    gathered(workspace, project)
    found = copies_of_edits(workspace, project)
    assert found.compared
    assert {(one.address, one.exact) for one in found.of[FIRST]} == {(AGAIN, True), (SMALLER, False)}


def test_copies_get_the_same_edit_each_in_its_own_size(workspace: Workspace, project: str) -> None:
    data = _painted(workspace, project)
    set_remedies(workspace, project, FIRST, ["flip"])
    gathered(workspace, project)
    done = give_to(workspace, project, FIRST, [AGAIN, SMALLER])
    assert done == {"done": 2, "faults": []}
    found = copies_of_edits(workspace, project)
    assert all(one.edited and one.same for one in found.of[FIRST])
    for address, side in ((AGAIN, 128), (SMALLER, 64)):
        edit = workspace.edit(project, address)
        assert workspace.blobs.get(edit.current.file_sha256) == data  # type: ignore[union-attr]
        assert "flip" in edit.current.remedies  # type: ignore[union-attr]
        assert edit.state == "ready", edit.sheet
        shown = look_at(workspace, project, address)[1].edit.picture()
        assert shown.shape[:2] == (side, side)
        # the red field stands below now: the picture was turned
        assert np.abs(shown[side - side // 4, side // 2, :3].astype(int) - [250, 20, 20]).max() < 24
    assert copies_of_edits(workspace, project).of[AGAIN]


def test_what_cannot_be_given_is_told_and_the_others_get_it(workspace: Workspace, project: str) -> None:
    put_in_work(workspace, project, FIRST)
    with pytest.raises(FormatError, match="no edit yet"):
        give_to(workspace, project, FIRST, [AGAIN])
    with pytest.raises(BraeError):
        give_to(workspace, project, OTHER, [AGAIN])
    _painted(workspace, project)
    done = give_to(workspace, project, FIRST, ["b.zip//nowhere.dds", AGAIN])
    assert (done["done"], [fault["address"] for fault in done["faults"]]) == (1, ["b.zip//nowhere.dds"])
    assert workspace.edit(project, AGAIN).state == "ready"


def test_edits_are_found_by_what_is_wrong_with_them(workspace: Workspace, project: str) -> None:
    held = workspace.catalogues.of(project)

    def found(words: str) -> set[str]:
        fits = held.fitting(Search(words), told=told(workspace, project))
        return {held.addresses[place] for place in np.flatnonzero(fits).tolist()}

    put_in_work(workspace, project, FIRST)
    assert found("finding:yes") == set()
    file = exchange_file(workspace, workspace.edit(project, FIRST))
    Image.open(file).resize((100, 70)).save(file)
    take_file(workspace, project, FIRST, file.read_bytes(), file.name)
    standing = open_findings(workspace, project)[FIRST]
    assert standing
    for words in ("finding:yes", *(f"finding:{one}" for one in standing)):
        assert found(words) == {FIRST}, words
    assert found("finding:no") == set(held.addresses) - {FIRST} == found("-finding:yes")
    assert found("finding:no-such-thing") == set()
    with pytest.raises(FormatError, match="Only edits have findings"):
        held.fitting(Search("finding:yes"), told=told_by(held, lambda: pytest.fail("not asked"), list))
