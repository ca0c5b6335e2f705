"""What a build would do, builds that were carried out, and trials."""

from __future__ import annotations

from copy import deepcopy
from datetime import datetime
from typing import Any

from pydantic import BaseModel, field_validator

from brae.api.schemas.common import Asked, Fault, Row
from brae.work.planning import FilePlan


class BuildPlan(BaseModel):
    """What a build would do."""

    files: list[FilePlan]
    edits: list[str]
    left_out: dict[str, str]
    warnings: dict[str, str]
    faults: list[Fault]
    up_to_date: bool
    #: what the person has to agree to first, in words
    asks: list[str]


class BuildRequest(Asked):
    """How to build."""

    #: the person agrees to what the plan ``asks``
    may_grow: bool = False


class BuildView(Row):
    """A build or a restore that was carried out."""

    id: int
    what: str
    made: datetime
    files: list[FilePlan]
    edits: list[str]

    @field_validator("files", mode="before")
    @classmethod
    def _as_written(cls, files: list[dict[str, Any]]) -> list[dict[str, Any]]:
        """Builds that an earlier Brae wrote down called a member's label its level."""
        files = deepcopy(files)
        for file in files:
            for plan in (file, *file.get("inside", [])):
                for member in plan.get("members", []):
                    if "level" in member:
                        member["label"] = member.pop("level")
        return files


class RestoreRequest(Asked):
    """Which files to put back; all where none is named."""

    paths: list[str] | None = None
    force: bool = False


class HeardLine(BaseModel):
    """Something heard in the trial: a sound (a data URL, empty where it is not heard), and what a mouth does."""

    name: str
    speaker: str
    sound: str
    #: from, to, in seconds, and the place of the shape in the speaker's faces
    moves: list[tuple[float, float, int]]
    fault: str


class WalkedMenu(BaseModel):
    """A screen of the trial's menus: its picture (a data URL), rectangles, where they lead, the cursor's ways."""

    picture: str
    #: left, top, width, height, in the screen's pixels
    boxes: list[list[int]]
    targets: list[int]
    #: what each does: "opens", "goes back" or "sails"
    does: list[str]
    #: from each rectangle: up, down, left, right, and the number of the next one
    ways: list[dict[str, int]]


class PlayReport(BaseModel):
    """What the stand-in did."""

    trace: list[str]
    refused: str | None
    placeholders: dict[str, str]
    scene: str
    lines: list[HeardLine]
    #: of each speaker a picture with all shapes of the mouth side by side
    faces: dict[str, str]
    menus: dict[int, WalkedMenu]
    first_menu: int


class TrialView(BaseModel):
    """The game before and after."""

    before: PlayReport
    after: PlayReport
