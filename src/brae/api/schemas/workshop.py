"""A description and what it makes of its files."""

from __future__ import annotations

import base64
from typing import Annotated, Literal

from pydantic import BaseModel, Field

from brae.api.schemas.common import Asked, Fault
from brae.core.containers.base import Proof
from brae.core.containers.evidence import Evidence
from brae.core.structure.workshop import Look, Says, Span, Value, entropy


class WorkshopRequest(Asked):
    """A file of the game, the data file that belongs to it, and the description so far."""

    path: str
    data: str | None = None
    text: Annotated[str, Field(max_length=1 << 20)]


class WindowRequest(WorkshopRequest):
    """Which bytes to show; ``file`` is 'main', or 'data' for the second file."""

    file: Literal["main", "data"] = "main"
    offset: Annotated[int, Field(ge=0)]
    length: Annotated[int, Field(ge=0, le=4096)]


class SayRequest(WorkshopRequest):
    """Selected bytes and what they are."""

    file: Literal["main", "data"] = "main"
    start: Annotated[int, Field(ge=0)]
    end: int
    says: Says
    name: str


class MendRequest(Asked):
    """A description, and the line that one of its fields is to have."""

    text: Annotated[str, Field(max_length=1 << 20)]
    field: Annotated[str, Field(max_length=200)]
    remedy: Annotated[str, Field(max_length=500)]


class Sought(Asked):
    """Bytes to look for, in hexadecimal or as words."""

    path: str
    hex: Annotated[str, Field(pattern=r"^([0-9A-Fa-f]{2}\s*)*$", max_length=4096)] = ""
    words: Annotated[str, Field(max_length=1024)] = ""


class Places(BaseModel):
    """Where they stand; a hundred at most."""

    places: list[int]


class Said(BaseModel):
    """The description afterwards."""

    text: str


class WindowView(BaseModel):
    """Bytes (base64) and the fields over them."""

    offset: int
    bytes: str
    fields: list[Value]


class MemberRow(BaseModel):
    """One line of the decoded table."""

    name: str
    offset: int
    stored: int
    real: int
    packer: str
    head: str
    fault: str | None


class FileMap(BaseModel):
    """What a whole file consists of: what is explained, what is not, and how random it looks (bits a byte)."""

    file: str
    size: int
    explained: float
    spans: list[Span]
    entropy: list[float]


class UnknownSort(BaseModel):
    """Members that are of no kind, by the ending of their names."""

    ending: str
    count: int
    #: the address of one of them, and its bytes
    example: str
    size: int


class WorkshopView(BaseModel):
    """What a description makes of its files."""

    files: list[FileMap]
    members: int
    rows: list[MemberRow]
    proof: Proof | None
    evidence: list[Evidence] = []
    error: Fault | None
    #: what a texture is, in words, and how it looks (a PNG as base64)
    says: str = ""
    picture: str | None = None

    @classmethod
    def of(cls, found: Look) -> WorkshopView:
        """From what the core found."""
        files = []
        for (file, spans), (name, source) in zip(found.spans.items(), found.seen.items(), strict=False):
            files.append(
                FileMap(
                    file=name,
                    size=source.size,
                    explained=found.explained[file],
                    spans=list(spans),
                    entropy=entropy(source),
                )
            )
        return cls(
            files=files,
            members=found.members,
            rows=[MemberRow.model_validate(row) for row in found.rows],
            proof=found.proof,
            evidence=list(found.evidence),
            says=found.says,
            picture=base64.b64encode(found.picture).decode() if found.picture is not None else None,
            error=Fault.model_validate(found.error.as_dict()) if found.error else None,
        )
