"""One change of colours over many items, as edits. Pictures: scikit-image's photographs; hues by Oklab."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from starlette.testclient import TestClient

from brae.api.app import create_app
from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_new
from brae.core.errors import BraeError
from brae.core.recolour.files import numbers
from brae.core.recolour.space import chroma_of, hue_of, to_lab
from brae.core.recolour.steps import Steps
from brae.work import Workspace, recolouring
from brae.work.edits import exchange_file, go_to, put_in_work, take_file, take_out_of_work
from brae.work.items import look_at, original_bytes
from brae.work.opening import open_game
from brae.work.recolouring import (
    Small,
    as_text,
    forget,
    from_text,
    keep,
    kept,
    look,
    preview,
    recolour,
    steps_of,
    take_back,
)
from tests.core.find.photos import pieces

SIGNS = [f"signs.zip//sign_{number}.dds" for number in range(4)]
GREY, NORMAL, LIGHT = "signs.zip//grey.dds", "signs.zip//slope_n.dds", "signs.zip//sun.dds"
RED = Steps.model_validate({"title": "rust", "steps": [{"tint": "#a03010"}]})
BLUE = Steps.model_validate({"steps": [{"tint": "#1030a0"}]})


@pytest.fixture
def project(workspace: Workspace, tmp_path: Path) -> str:
    folder = tmp_path / "signs"
    folder.mkdir()
    rows, columns = np.mgrid[-1:1:64j, -1:1:64j]
    slope = np.stack([rows * 0.4, columns * 0.4, np.sqrt(1 - 0.16 * (rows**2 + columns**2))], axis=2)
    normal = np.dstack([np.round(slope * 127.5 + 127.5), np.full((64, 64), 255)]).astype(np.uint8)
    with zipfile.ZipFile(folder / "signs.zip", "w") as archive:
        bgra = formats.get("bgra8")
        for number, picture in enumerate(list(pieces().values())[:4]):
            archive.writestr(f"sign_{number}.dds", encode_new(picture[:64, :64], formats.get("bgra8"), None))
        packed = np.full((32, 32, 4), (40, 60, 80, 255), np.uint8)
        archive.writestr("hull_d.dds", encode_new(np.full((64, 64, 4), (200, 40, 30, 255), np.uint8), bgra, None))
        archive.writestr("hull_r.dds", encode_new(packed, bgra, 1))
        archive.writestr("grey.dds", encode_new(np.full((16, 16, 4), 255, np.uint8), formats.get("bgra8"), 1))
        archive.writestr("slope_n.dds", encode_new(normal, formats.get("bgra8"), 1))
        archive.writestr("sun.dds", encode_new(np.full((8, 8, 4), 3, np.float32), formats.get("rgba16f"), 1))
    return str(open_game(workspace, folder)["project"])


def _shown(workspace: Workspace, project: str, address: str) -> np.ndarray:
    viewed = look_at(workspace, project, address)[1]
    return np.asarray((viewed.edit or viewed.original).picture())


def _paint(
    workspace: Workspace, project: str, address: str, colour: tuple[int, int, int], box: tuple[int, ...]
) -> None:
    """Save a field of colour over an item's exchange file, as an image editor would."""
    file = exchange_file(workspace, workspace.edit(project, address))
    picture = Image.open(file).convert("RGBA")
    picture.paste((*colour, 255), box)
    picture.save(file)
    take_file(workspace, project, address, file.read_bytes(), file.name)


def _hues(picture: np.ndarray) -> np.ndarray:
    lab = to_lab(numbers(picture)[..., :3])
    return hue_of(lab)[chroma_of(lab) > 0.04]


def test_many_become_one_hue_and_can_be_changed_again(workspace: Workspace, project: str) -> None:
    done = recolour(workspace, project, [*SIGNS, GREY], RED)
    assert (done.done, done.same, done.painted, done.faults) == (4, [GREY], [], []), "white is no lighter red"
    for address in SIGNS:
        assert np.median(np.abs(_hues(_shown(workspace, project, address)) - 38)) < 4
        assert workspace.edit(project, address).state == "ready"
    assert steps_of(workspace, project, SIGNS[0]) == RED
    # Other steps work on the originals again, not on what is red already: how light a pixel is stays.
    recolour(workspace, project, SIGNS, BLUE)
    for address in SIGNS:
        shown, original = (
            _shown(workspace, project, address),
            look_at(workspace, project, address)[1].original.picture(),
        )
        assert np.median(np.abs(_hues(shown) - 266)) < 4
        light = [to_lab(numbers(one)[..., :3])[..., 0] for one in (shown, original)]
        off = np.abs(light[0] - light[1])
        assert np.median(off) < 0.01, "but for the steps of 8 bits, which are wide where it is dark"
        assert off.max() < 0.05
    # Undone step by step as any edit, or all together; then nothing of it is left in the work.
    go_to(workspace, project, SIGNS[0], 1)
    assert steps_of(workspace, project, SIGNS[0]) == RED
    take_back(workspace, project, [*SIGNS, GREY])
    for address in SIGNS:
        edit = workspace.edit(project, address)
        assert (edit.position, edit.in_work) == (0, False)
        assert not exchange_file(workspace, edit).exists()


def test_what_the_steps_were_asked_for_is_no_finding(workspace: Workspace, project: str) -> None:
    """Lighter and grey by one's own steps; the same by an editor may be a mistake, and is told."""
    first, second = SIGNS[:2]
    steps = Steps.model_validate({"steps": [{"levels": {"gamma": 2}}, {"saturation": 0}]})
    recolour(workspace, project, [first], steps)
    edit = workspace.edit(project, first)
    assert edit.state == "ready"
    ids = {finding["id"] for finding in (edit.sheet or {})["findings"] if finding["meant"]}
    assert ids
    put_in_work(workspace, project, second)
    file = exchange_file(workspace, workspace.edit(project, second))
    grey = Image.open(file).convert("L").convert("RGB")
    grey.save(file)
    take_file(workspace, project, second, file.read_bytes(), file.name)
    assert workspace.edit(project, second).state == "attention"


def test_what_was_painted_stays_on_top(workspace: Workspace, project: str) -> None:
    first, second = SIGNS[:2]
    # Painted before: the steps work on the painting, and it is there again when they are taken back.
    put_in_work(workspace, project, first)
    _paint(workspace, project, first, (20, 200, 40), (0, 0, 32, 64))
    painted = _shown(workspace, project, first)
    recolour(workspace, project, [first, second], RED)
    shown = _shown(workspace, project, first)
    assert np.ptp(shown[:, :32, :3].astype(int), axis=(0, 1)).max() <= 1, "one colour, as it was painted"
    assert np.median(np.abs(_hues(shown) - 38)) < 4
    # Painted after: left as it is when the steps change, and said so.
    _paint(workspace, project, second, (250, 250, 250), (8, 8, 24, 24))
    kept_bytes = _shown(workspace, project, second)
    done = recolour(workspace, project, [first, second], BLUE)
    assert (done.done, done.painted) == (1, [second])
    assert np.array_equal(_shown(workspace, project, second), kept_bytes)
    small = Small()
    assert preview(workspace, small, project, second, BLUE, 64) == preview(
        workspace, small, project, second, None, 64
    )
    take_back(workspace, project, [first, second])
    assert np.array_equal(_shown(workspace, project, first), painted)
    assert np.array_equal(_shown(workspace, project, second), kept_bytes)


def test_what_is_saved_while_it_is_worked_out_is_not_hidden(
    workspace: Workspace, project: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """An editor saves between the look at the picture and the new version: the steps work on what was saved."""
    first = SIGNS[0]
    put_in_work(workspace, project, first)
    real, saved = recolouring.Changer.changed, []

    def slow(*arguments: object) -> object:
        made = real(*arguments)  # type: ignore[arg-type]
        if not saved:
            saved.append(1)
            _paint(workspace, project, first, (20, 200, 40), (0, 0, 64, 64))
        return made

    monkeypatch.setattr(recolouring.Changer, "changed", slow)
    assert recolour(workspace, project, [first], RED).done == 1
    assert [step.colours is None for step in workspace.edit(project, first).steps] == [True, False]
    assert np.ptp(_shown(workspace, project, first)[..., :3].astype(int), axis=(0, 1)).max() <= 1


def test_what_left_the_work_comes_back_as_it_was_seen(workspace: Workspace, project: str) -> None:
    """Put in work once more an item has its last version: that is what the steps work on, and what was shown."""
    first = SIGNS[0]
    put_in_work(workspace, project, first)
    _paint(workspace, project, first, (20, 200, 40), (0, 0, 64, 64))
    take_out_of_work(workspace, project, first)
    take_back(workspace, project, [first])
    assert workspace.edit(project, first).position == 1, "what is not in work is nobody's business"
    with Image.open(io.BytesIO(preview(workspace, Small(), project, first, None, 64))) as shown:
        assert shown.convert("RGBA").getpixel((30, 30)) == (20, 200, 40, 255)
    recolour(workspace, project, [first], RED)
    assert np.ptp(_shown(workspace, project, first)[..., :3].astype(int), axis=(0, 1)).max() <= 1


def test_what_has_no_colours_is_told_and_what_no_step_reaches_is_no_edit(
    workspace: Workspace, project: str
) -> None:
    small = Small()
    told = look(workspace, small, project, [SIGNS[0], GREY, NORMAL, LIGHT], 64)
    assert told == {NORMAL: "a normal map", LIGHT: "holds light (HDR)"}
    steps = Steps.model_validate({"steps": [{"saturation": 3}]})
    before = original_bytes(workspace, workspace.project(project), workspace.find(project, GREY))
    done = recolour(workspace, project, [GREY, LIGHT, "signs.zip//none.dds"], steps)
    assert (done.done, done.same) == (0, [GREY])
    assert [fault["address"] for fault in done.faults] == [LIGHT, "signs.zip//none.dds"]
    assert workspace.edit_or_none(project, GREY) is None
    assert original_bytes(workspace, workspace.project(project), workspace.find(project, GREY)) == before
    # A picture whose colours are wanted is an item; one that is not there stops all before anything is written.
    wrong = Steps.model_validate({"steps": [{"like": "signs.zip//none.dds"}]})
    with pytest.raises(BraeError):
        recolour(workspace, project, SIGNS, wrong)
    assert all(workspace.edit_or_none(project, address) is None for address in SIGNS)
    like = Steps.model_validate({"steps": [{"like": SIGNS[3]}]})
    assert recolour(workspace, project, [SIGNS[0]], like).done == 1
    means = [
        to_lab(numbers(_shown(workspace, project, address))[..., :3]).mean(axis=(0, 1))
        for address in (SIGNS[0], SIGNS[3])
    ]
    assert np.abs(means[0] - means[1]).max() < 0.03


def test_steps_are_kept_and_are_text_that_others_can_read(workspace: Workspace) -> None:
    text = (
        "title: to rust\nsteps:\n  - {hues: {from: [220.0, 300.0], to: 29.0}, mask: {light: [0.2, 0.8]}}\n"
        "  - {gradient: ['#20140a', '#f6e7c8'], amount: 0.3}\n  - {colours: {'#000000': '#ffffff'}}\n"
    )
    steps = from_text(text)
    assert as_text(steps) == text
    keep(workspace.home, "to rust", steps)
    (workspace.home.colours / "broken.yaml").write_text("steps: [{}]")
    assert kept(workspace.home) == {"to rust": steps}
    forget(workspace.home, "to rust")
    for act in (lambda: forget(workspace.home, "to rust"), lambda: keep(workspace.home, "../away", steps)):
        with pytest.raises(BraeError):
            act()
    with pytest.raises(BraeError, match="line 3"):
        from_text("steps:\n  - {hue: 3}\n  - {huge: 3}\n")


def test_over_the_interface(workspace: Workspace, project: str) -> None:
    app = create_app(workspace, watch=False, secret="s")
    with TestClient(app, base_url="http://127.0.0.1:8716") as client:
        client.headers["authorization"] = "Bearer s"
        at, sign = f"/api/projects/{project}/colours", {"address": SIGNS[0]}
        shown = client.get(f"{at}/preview", params={**sign, "side": 32, "steps": '{"steps": [{"hue": 90}]}'})
        assert (shown.status_code, shown.headers["content-type"]) == (200, "image/png")
        for wrong in ("{", "[1]", '{"steps": 3}', '{"steps": [{"huge": 1}]}'):
            answer = client.get(f"{at}/preview", params={**sign, "steps": wrong})
            assert 400 <= answer.status_code < 500, answer.text
        assert client.get(f"{at}/now", params=sign).json() is None
        step = {"title": "", "steps": [{"hue": 90.0}]}
        kept_now = client.put("/api/colours/quarter", json=step).json()
        assert [(one["name"], one["steps"]["steps"]) for one in kept_now] == [("quarter", [{"hue": 90.0}])]
        assert client.post("/api/colours/written", json=step).json()["text"] == "steps:\n  - {hue: 90.0}\n"
        assert client.delete("/api/colours/quarter").json() == []
        assert client.delete("/api/colours/quarter").status_code == 404


def test_values_of_the_other_maps_go_with_the_colours(workspace: Workspace, project: str) -> None:
    """Rust is rough: where the colour changes, so does what the surface's roughness map holds."""
    hull, rough = "signs.zip//hull_d.dds", "signs.zip//hull_r.dds"
    steps = Steps.model_validate(
        {"steps": [{"tint": "#1030a0", "amount": 0.5, "maps": {"smoothness": 0.25, "metallic": 1}}]}
    )
    told = recolour(workspace, project, [hull], steps)
    assert (told.done, told.faults) == (1, [])
    _, viewed = look_at(workspace, project, rough)
    assert viewed.edit is not None
    made = viewed.edit.picture()
    # Half of the way to 1 - 0.25, from the 40 that was there; in blue and green too, as the map is nothing else.
    assert np.abs(made[..., :3].astype(int) - np.round((np.array([40, 60, 80]) + 191.25) / 2)).max() <= 1
    assert (made[..., 3] == 255).all()
    # Again with other values: they do not add up.
    other = steps.steps[0].model_copy(update={"maps": {"roughness": 0.0}})
    recolour(workspace, project, [hull], Steps(steps=[other]))
    kept_now = steps_of(workspace, project, hull)
    assert kept_now is not None
    assert kept_now.steps[0].maps == {"roughness": 0.0}
    _, viewed = look_at(workspace, project, rough)
    assert viewed.edit is not None
    assert np.abs(viewed.edit.picture()[..., 0].astype(int) - 20).max() <= 1
    take_back(workspace, project, [hull])
    assert not workspace.edit(project, rough).in_work
    assert not workspace.edit(project, hull).in_work
    assert "maps: {smoothness: 0.25" in as_text(steps)
    with pytest.raises(BraeError, match="maps"):
        from_text("steps:\n  - {hue: 3, maps: {normal: 0.5}}\n")


def test_values_of_other_maps_alone(workspace: Workspace, project: str) -> None:
    """Colours that a step leaves as they are: the roughness changes all the same, and is taken back."""
    hull, rough = "signs.zip//hull_d.dds", "signs.zip//hull_r.dds"
    told = recolour(
        workspace, project, [hull], Steps.model_validate({"steps": [{"hue": 0, "maps": {"roughness": 1}}]})
    )
    assert told.same == [hull]
    assert workspace.edit_or_none(project, hull) is None
    _, viewed = look_at(workspace, project, rough)
    assert viewed.edit is not None
    assert (viewed.edit.picture()[..., :3] == 255).all()
    take_back(workspace, project, [hull])
    assert not workspace.edit(project, rough).in_work
