"""What every part of the API speaks of: requests, errors, jobs, this Brae itself."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, model_validator


class Row(BaseModel):
    """Read from a database row."""

    model_config = ConfigDict(from_attributes=True)


#: the largest number that the database holds
LARGEST = 2**63 - 1


class Asked(BaseModel):
    """The body of a request. No text in it holds a NUL: no path, name or address has one."""

    @model_validator(mode="before")
    @classmethod
    def _no_nul(cls, data: Any) -> Any:
        waiting = [data]
        while waiting:
            one = waiting.pop()
            if isinstance(one, dict):
                waiting += [*one.keys(), *one.values()]
            elif isinstance(one, list):
                waiting += one
            elif isinstance(one, str) and "\0" in one:
                raise ValueError("a text holds a NUL character")
        return data


class Problem(BaseModel):
    """problem+json (RFC 9457), with the parts of Brae's own errors."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    code: str
    address: str | None = None
    offset: int | None = None
    line: int | None = None
    expected: str | None = None
    remedy: str | None = None


class Fault(BaseModel):
    """An error inside another answer."""

    code: str
    message: str
    address: str | None = None
    offset: int | None = None
    line: int | None = None
    expected: str | None = None
    remedy: str | None = None
    layout: str | None = None


class State(BaseModel):
    """What this Brae is."""

    version: str
    home: str
    user_folder: str
    demo: str | None


class JobView(BaseModel):
    """A job as it stands."""

    id: int
    kind: str
    title: str
    project_id: str | None
    #: what it is about, such as the file's path
    arguments: dict[str, Any]
    state: Literal["waiting", "running", "done", "failed", "cancelled", "interrupted"]
    #: the job of the same project that comes first
    waits_for: str | None = None
    #: what it does just now
    doing: str | None = None
    done: int
    total: int
    unit: str
    rate: float | None
    result: dict[str, Any] | None
    error: Fault | None


class LayoutView(BaseModel):
    """A layout that is known."""

    layout: str
    title: str
    kind: str
