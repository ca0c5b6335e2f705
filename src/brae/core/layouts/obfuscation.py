"""Obfuscation: bytes that a game hides by steps that undo themselves, described by a layout.

Steps are listed in the order in which reading undoes them. Positions count from the first byte of what is
hidden (a part, or a member).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from brae.core.errors import LayoutError
from brae.core.layouts import expressions


class RunningKey(BaseModel):
    """A key that steps: each byte is ``state >> shift``; then ``state = state * multiply + add``, in ``bits``."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    seed: Annotated[int, Field(ge=0, lt=1 << 64)] | str = Field(description="a number, or a sum over header fields")
    multiply: Annotated[int, Field(ge=0, lt=1 << 64)] = 1
    add: Annotated[int, Field(ge=0, lt=1 << 64)] = 0
    bits: Annotated[int, Field(ge=8, le=64)] = 8
    shift: Annotated[int, Field(ge=0, le=56)] = 0


class Step(BaseModel):
    """One step; exactly one of its keys."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    xor: Annotated[int, Field(ge=0, le=255)] | str | None = Field(
        None, description="a byte, or a key that repeats ('\\x01' is a byte by its number)"
    )
    xor_running: RunningKey | None = None
    subtract: Annotated[int, Field(ge=0, le=255)] | None = Field(None, description="from every byte, when reading")
    swap: Literal[2, 4, 8] | None = Field(None, description="the bytes of every unit stand in reverse")
    rotate: Annotated[int, Field(ge=1, le=7)] | None = Field(
        None, description="every byte's bits to the left, when reading; 4 exchanges the nibbles"
    )

    @property
    def fields(self) -> set[str]:
        """The header fields that its key is made of."""
        return expressions.field_names(self.xor_running.seed) if self.xor_running is not None else set()

    @model_validator(mode="after")
    def _one(self) -> Step:
        given = [self.xor, self.xor_running, self.subtract, self.swap, self.rotate]
        if sum(value is not None for value in given) != 1:
            raise ValueError("a step has one of xor, xor_running, subtract, swap, rotate")
        if self.xor == "":
            raise ValueError("a key has at least one character")
        if isinstance(self.xor, str) and any(ord(char) > 255 for char in self.xor):
            raise ValueError("a key's characters are bytes, up to \\xff")
        return self


Steps = Annotated[list[Step], Field(max_length=8)]
_Bytes = np.ndarray[Any, np.dtype[np.uint8]]


def with_keys(steps: Sequence[Step], values: Mapping[str, int]) -> list[Step]:
    """The same steps with keys made of header fields worked out; LayoutError where one is not known."""
    found = []
    for step in steps:
        if step.fields and step.xor_running is not None:
            seed = expressions.evaluate(step.xor_running.seed, values) & ((1 << 64) - 1)
            step = step.model_copy(update={"xor_running": step.xor_running.model_copy(update={"seed": seed})})
        found.append(step)
    return found


@lru_cache(maxsize=8)
def _running(key: RunningKey, length: int) -> _Bytes:
    from brae.core.layouts import kernels

    mask = (1 << key.bits) - 1
    seed = expressions.evaluate(key.seed, {})
    numbers = (seed & mask, key.multiply, key.add, mask, key.shift)
    found: _Bytes = kernels.running_key(length, *(np.uint64(number) for number in numbers))
    return found


def _apply(step: Step, data: _Bytes, reading: bool, position: int) -> _Bytes:
    if isinstance(step.xor, int):
        return data ^ np.uint8(step.xor)
    if isinstance(step.xor, str):
        key = np.frombuffer(step.xor.encode("latin-1"), np.uint8)
        return data ^ np.resize(np.roll(key, -(position % len(key))), len(data))
    if step.xor_running is not None:
        # A power of two, so that members of many lengths share few keys.
        whole = 1 << (position + len(data)).bit_length()
        return data ^ _running(step.xor_running, whole)[position : position + len(data)]
    if step.subtract is not None:
        number = np.uint8(step.subtract)
        return data - number if reading else data + number
    if step.swap is not None:
        if position % step.swap:
            raise LayoutError("Swapped bytes can only be read from the beginning of a unit.")
        # A tail shorter than a unit stays as it is (common practice, no source).
        whole = len(data) - len(data) % step.swap
        return np.concatenate([data[:whole].reshape(-1, step.swap)[:, ::-1].reshape(-1), data[whole:]])
    assert step.rotate is not None
    left = np.uint8(step.rotate if reading else 8 - step.rotate)
    return (data << left) | (data >> np.uint8(8 - left))


def reveal(steps: Sequence[Step], data: bytes, position: int = 0) -> bytes:
    """The bytes as they are meant; ``position`` is where ``data`` begins in what is hidden."""
    result = np.frombuffer(data, np.uint8)
    for step in steps:
        result = _apply(step, result, True, position)
    return result.tobytes() if steps else data


def hide(steps: Sequence[Step], data: bytes, position: int = 0) -> bytes:
    """The inverse of ``reveal``."""
    result = np.frombuffer(data, np.uint8)
    for step in reversed(steps):
        result = _apply(step, result, False, position)
    return result.tobytes() if steps else data
