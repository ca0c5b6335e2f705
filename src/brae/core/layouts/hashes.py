"""Names that an archive stores only as hashes: how they are made, and which known names they are."""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

#: form of the kernel, first value, factor, bits.
#: FNV: "The FNV Non-Cryptographic Hash Algorithm" (draft-eastlake-fnv); djb2: common practice, no source.
_KINDS = {
    "fnv1a32": (0, 0x811C9DC5, 0x01000193, 32),
    "fnv1a64": (0, 0xCBF29CE484222325, 0x100000001B3, 64),
    "fnv1-32": (1, 0x811C9DC5, 0x01000193, 32),
    "fnv1-64": (1, 0xCBF29CE484222325, 0x100000001B3, 64),
    "djb2": (2, 5381, 33, 32),
    "djb2a": (3, 5381, 33, 32),
}


class NameHash(BaseModel):
    """A hash of a member's path."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    kind: Literal["fnv1a32", "fnv1a64", "fnv1-32", "fnv1-64", "djb2", "djb2a", "crc32", "polynomial"]
    case: Literal["as-is", "lower", "upper"] = Field("as-is", description="what becomes of letters first")
    slash: Annotated[str, Field(min_length=1, max_length=1)] = Field("/", description="between folders")
    encoding: Literal["ascii", "utf-8", "utf-16", "latin-1", "shift-jis"] = "utf-8"
    factor: Annotated[int, Field(ge=1, lt=1 << 64)] = Field(31, description="of a polynomial")
    first: Annotated[int, Field(ge=0, lt=1 << 64)] = Field(0, description="what a polynomial begins with")
    bits: Annotated[int, Field(ge=8, le=64)] = Field(32, description="of a polynomial")

    @model_validator(mode="after")
    def _only_polynomials(self) -> NameHash:
        given = {"factor", "first", "bits"} & self.model_fields_set
        if given and self.kind != "polynomial":
            raise ValueError(f"'{min(given)}' describes a polynomial")
        return self

    def prepare(self, name: str) -> bytes:
        """The bytes that are hashed."""
        text = name.replace("/", self.slash)
        text = {"lower": text.lower(), "upper": text.upper()}.get(self.case, text)
        codec = "utf-16-le" if self.encoding == "utf-16" else self.encoding
        return text.encode(codec, "replace" if self.encoding != "utf-8" else "surrogateescape")

    def of(self, names: Sequence[str]) -> np.ndarray[Any, np.dtype[np.uint64]]:
        """The hashes of names (uint64)."""
        raw = [self.prepare(name) for name in names]
        if self.kind == "crc32":
            return np.array([zlib.crc32(text) for text in raw], np.uint64)
        from brae.core.layouts import kernels

        form, first, factor, bits = (
            (2, self.first, self.factor, self.bits) if self.kind == "polynomial" else _KINDS[self.kind]
        )
        bounds = np.concatenate([[0], np.cumsum([len(text) for text in raw], dtype=np.int64)]).astype(np.int64)
        result = np.empty(len(raw), np.uint64)
        data = np.frombuffer(b"".join(raw), np.uint8)
        kernels.name_hash(data, bounds, form, np.uint64(first), np.uint64(factor), bits, result)
        return result


def resolve(spec: NameHash, stored: np.ndarray[Any, Any], bits: int, known: Iterable[str]) -> list[str]:
    """A name for each stored hash (of ``bits``): a known one, else ``#`` and the hash in hexadecimal digits.

    A stored hash narrower than the hash holds its low bits.
    """
    candidates = list(dict.fromkeys(known))
    hashes = spec.of(candidates) & np.uint64((1 << bits) - 1)
    found: dict[int, str] = {}
    for value, name in zip(hashes.tolist(), candidates, strict=True):
        found.setdefault(value, name)
    return [found.get(value, f"#{value:0{(bits + 3) // 4}x}") for value in stored.astype(np.uint64).tolist()]
