"""Block compression: 4 x 4 pixels packed by a kernel.

Sources: Microsoft, "Texture Block Compression in Direct3D 11" (BC1 to BC7); the kernels name theirs.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
from PIL import Image

from brae.core.assets.texture import kernels
from brae.core.assets.texture.formats.base import (
    DEFAULT,
    Alpha,
    Blocks,
    How,
    Picture,
    Precision,
    blocks_of,
    exact,
    register,
)
from brae.core.assets.texture.formats.channels import grey_of
from brae.core.assets.texture.formats.precision import as_precision
from brae.core.assets.texture.kernels import over_rows

Words = np.ndarray[Any, np.dtype[np.uint32]]
Encoder = Callable[["Job"], None]

#: what an error of R, G, B and A costs: all alike, or as the eye sees it (ITU-R BT.709, times three)
PLAIN, PERCEPTUAL = (1.0, 1.0, 1.0, 1.0), (0.6378, 2.1456, 0.2166, 1.0)
#: colour blocks: starts along the axis, as parts of the distance of both ends from the mean (beyond 1 the inner
#: places are used, finer than the ends' five bits: gradients want it), passes for each, rounds of trying near codes
_STARTS = {
    "fast": ([(1, 1)], 1, 0),
    "normal": ([(1, 1), (0.9, 0.9), (1, 0.8), (1.5, 1.5)], 2, 0),
    "high": ([(1, 1), (0.9, 0.9), (1, 0.8), (0.8, 1), (1.5, 1.5), (2.5, 2.5)], 3, 1),
    "best": (
        [
            (1, 1), (0.9, 0.9), (1, 0.8), (0.8, 1), (0.8, 0.8), (1.2, 1.2), (1.5, 1.5), (2, 2), (2.5, 2.5), (4, 4),
            (1, 2), (2, 1), (1, 3), (3, 1), (0.6, 0.6), (0.5, 1), (1, 0.5), (0.7, 0.9), (0.9, 0.7), (0.3, 0.3),
        ],
        5,
        6,
    ),
}  # fmt: skip
#: BC7: passes, ranked partitions, and for opaque, cut-out and soft blocks the ways that are tried (8: mode 4
#: exchanged), each with how many partitions or rotations
_HIGH = (
    None,
    [(6, 1), (5, 4), (1, 4), (3, 4), (0, 1), (2, 1)],
    [(5, 1), (4, 1), (8, 1), (7, 4)],
    [(6, 1), (5, 4), (7, 4), (4, 4), (8, 4), (1, 2)],
)
_BEST = (
    None,
    [(6, 1), (5, 4), (4, 4), (8, 4), (1, 4), (3, 4), (0, 4), (2, 4)],
    [(5, 1), (4, 1), (8, 1), (7, 4)],
    [(6, 1), (5, 4), (7, 4), (4, 4), (8, 4), (1, 4), (3, 4), (0, 4), (2, 4)],
)
_EFFORTS = {
    "fast": (1, 16, (None, [(6, 1), (1, 1)], [(8, 1)], [(6, 1), (5, 1)])),
    "normal": (1, 24, (None, [(6, 1), (1, 1), (3, 1)], [(5, 1), (8, 1)], [(6, 1), (5, 2), (4, 1)])),
    "high": (3, 64, _HIGH),
    "best": (6, 64, _BEST),
}
#: what Pillow decodes to the same bytes, by its modes and numbers: for as long as the kernels are compiled
_LIBRARY: dict[str, tuple[str, Any]] = {
    "bc1": ("RGBA", 1), "bc2": ("RGBA", 2), "bc3": ("RGBA", 3), "bc4": ("L", 4), "bc5": ("RGB", 5),
    "bc5s": ("RGB", (5, "BC5S")), "bc7": ("RGBA", 7),
}  # fmt: skip
#: BC6H: passes, and how many partitions are fitted in full
_TRIES = {"fast": (1, 1), "normal": (2, 2), "high": (3, 4), "best": (5, 4)}


@dataclass
class Job:
    """Blocks of a picture to be encoded."""

    #: uint32 (height, width), R in the lowest byte
    picture: Words
    #: numbers of the blocks, row by row
    blocks: np.ndarray[Any, np.dtype[np.int64]]
    how: How
    out: Words

    def run(self, kernel: Callable[..., Any], *arguments: Any) -> None:
        """Run a kernel over all groups of blocks."""
        from brae.core.assets.texture.kernels.lanes import LANES

        # A group is as much work as many rows of blocks elsewhere.
        groups = -(-self.blocks.size // LANES)
        over_rows(kernel, groups, self.picture, self.blocks, *arguments, worth=2)

    def weights(self) -> np.ndarray[Any, np.dtype[np.float32]]:
        """What an error of each channel costs."""
        return np.array(PERCEPTUAL if self.how.perceptual else PLAIN, np.float32)


@dataclass(eq=False)
class BlockCompressed(Blocks):
    """4 x 4 blocks of 8-bit channels packed by kernels."""

    name: str
    title: str
    block_bytes: int
    alpha: Alpha
    #: name of the decoder in kernels.bc or kernels.bc7
    decoder: str
    encoder: Encoder
    holds: str = "rgba"
    signed: bool = False
    block: tuple[int, int] = (4, 4)
    precision: Precision = "8"

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        data = exact(self, data, width, height)
        if self.name in _LIBRARY and not kernels.ready.is_set():
            mode, number = _LIBRARY[self.name]
            return np.array(Image.frombytes(mode, (width, height), data, "bcn", number).convert("RGBA"))
        from brae.core.assets.texture.kernels import bc, bc7

        words = np.frombuffer(data, "<u4").astype(np.uint32)
        out = np.empty((height, width), np.uint32)
        rows = -(-height // 4)
        if self.decoder in ("decode_bc4", "decode_bc5"):
            over_rows(getattr(bc, self.decoder), rows, words, self.signed, out)
        else:
            over_rows(getattr(bc7 if self.name == "bc7" else bc, self.decoder), rows, words, out)
        return out.view(np.uint8).reshape(height, width, 4)

    def encode(self, picture: Picture, how: How = DEFAULT) -> bytes:
        picture = as_precision(picture, "8")
        height, width = picture.shape[:2]
        out, blocks = targets(self, width, height, how)
        # Kernels are compiled for writable arrays only; a read-only one would compile them once more.
        words = np.require(picture, requirements=["C", "W"]).view(np.uint32).reshape(height, width)
        kernels.ready.wait()
        if blocks.size:
            self.encoder(Job(words, blocks, how, out))
        return out.astype("<u4", copy=False).tobytes()


def targets(
    pixel_format: Any, width: int, height: int, how: How
) -> tuple[Words, np.ndarray[Any, np.dtype[np.int64]]]:
    """Room for the words of all blocks, those of the original in it, and the numbers of the blocks to be made."""
    size = pixel_format.size(width, height)
    rows, columns = blocks_of(pixel_format, width, height)
    if how.keep is None or how.changed is None:
        return np.zeros(size // 4, np.uint32), np.arange(rows * columns)
    return np.frombuffer(how.keep, "<u4").astype(np.uint32), np.flatnonzero(how.changed)


@cache
def single_colour_tables() -> np.ndarray[Any, np.dtype[np.int32]]:
    """For each 8-bit value the 5-bit (first) and 6-bit ends whose first step comes nearest (2 x 256 x 2)."""

    def best(bits: int) -> np.ndarray[Any, Any]:
        steps = np.arange(1 << bits)
        wide = (steps << (8 - bits)) | (steps >> (2 * bits - 8))
        between = (2 * wide[:, None] + wide[None, :]) // 3
        # Among equally good pairs the closest ends: other hardware rounds the steps differently.
        cost = np.abs(between[None] - np.arange(256)[:, None, None]) * 1024 + np.abs(wide[:, None] - wide[None, :])
        first, second = np.divmod(cost.reshape(256, -1).argmin(axis=1), 1 << bits)
        return np.stack([first, second], axis=1)

    return np.stack([best(5), best(6)]).astype(np.int32)


@cache
def _exact_ends() -> np.ndarray[Any, np.dtype[np.int64]]:
    """For each 8-bit value two ends of 7 bits whose first step is that value (256 x 2), for BC7's mode 5."""
    steps = np.arange(128)
    wide = (steps << 1) | (steps >> 6)
    between = (43 * wide[:, None] + 21 * wide[None, :] + 32) >> 6
    cost = np.abs(between[None] - np.arange(256)[:, None, None]) * 1024 + np.abs(wide[:, None] - wide[None, :])
    return np.stack(np.divmod(cost.reshape(256, -1).argmin(axis=1), 128), axis=1)


def _by_kind(job: Job) -> dict[int, Job]:
    """The job divided by what its blocks are, so that the blocks of a group need the same work."""
    from brae.core.assets.texture.kernels.kinds import classify, sort_by_kind

    height, width = job.picture.shape
    kinds = np.empty((-(-height // 4), -(-width // 4)), np.uint8)
    over_rows(classify, len(kinds), job.picture, kinds)
    ordered, counts = np.empty_like(job.blocks), np.zeros(4, np.int64)
    sort_by_kind(job.blocks, kinds.ravel(), ordered, counts)
    parts = np.split(ordered, np.cumsum(counts)[:-1])
    return {kind: Job(job.picture, blocks, job.how, job.out) for kind, blocks in enumerate(parts) if blocks.size}


def _colours(parts: dict[int, Job], stride: int, offset: int, least: int, punch: bool, three: bool = False) -> None:
    """Colour blocks; those of one colour come from tables. ``three``: blocks of three colours may be (BC1)."""
    from brae.core.assets.texture.kernels.colour import encode_colour, flat_colours
    from brae.core.assets.texture.kernels.kinds import FLAT

    alpha, tables = np.float32(least), single_colour_tables()
    for kind, part in parts.items():
        rest = (alpha, punch, tables, part.out, stride, offset)
        if kind == FLAT:
            over_rows(flat_colours, part.blocks.size, part.picture, part.blocks, *rest, worth=4096)
        else:
            starts, passes, rounds = _STARTS[part.how.effort]
            weights = part.weights()
            weights[3] = 0
            either = three and part.how.effort == "best"
            part.run(encode_colour, weights, np.array(starts, np.float32), passes, rounds, either, *rest)


def _channel(parts: dict[int, Job], channel: int, signed: bool, stride: int, offset: int) -> None:
    """One channel; where it is the same all over a block, or alpha is hard, nothing need be searched."""
    from brae.core.assets.texture.kernels.kinds import CUT, FLAT, SOLID
    from brae.core.assets.texture.kernels.single import encode_channel, flat_channel, hard_channel

    for kind, part in parts.items():
        count, place = part.blocks.size, (part.out, stride, offset)
        if kind == FLAT or (kind == SOLID and channel == 3):
            over_rows(flat_channel, count, part.picture, part.blocks, channel, signed, *place, worth=4096)
        elif kind == CUT and channel == 3:
            over_rows(hard_channel, count, part.picture, part.blocks, channel, *place, worth=4096)
        else:
            part.run(encode_channel, channel, signed, *place)


def _bc1(job: Job) -> None:
    _colours(_by_kind(job), 2, 0, 128 if job.how.clear else 0, job.how.clear, three=True)


def _bc2(job: Job) -> None:
    """Four bits of alpha a pixel; pixels that become clear by it cost nothing."""
    height, width = job.picture.shape
    rows, columns = -(-height // 4), -(-width // 4)
    padded = np.pad(job.picture, ((0, rows * 4 - height), (0, columns * 4 - width)), "edge")
    alpha = ((padded >> np.uint32(24)) * 15 + 127) // 255
    nibbles = alpha.reshape(rows, 4, columns, 4).swapaxes(1, 2).reshape(-1, 16).astype(np.uint64)
    bits = (nibbles << (np.arange(16, dtype=np.uint64) * np.uint64(4))).sum(axis=1, dtype=np.uint64)[job.blocks]
    job.out[job.blocks * 4] = (bits & np.uint64(0xFFFFFFFF)).astype(np.uint32)
    job.out[job.blocks * 4 + 1] = (bits >> np.uint64(32)).astype(np.uint32)
    _colours(_by_kind(job), 4, 2, 9, False)


def _bc3(job: Job, least: int = 1) -> None:
    """Colours of pixels whose alpha is below ``least`` cost nothing."""
    parts = _by_kind(job)
    _channel(parts, 3, False, 4, 0)
    _colours(parts, 4, 2, least, False)


def _grey(job: Job, signed: bool) -> None:
    """BC4 takes the luma of a picture that is not grey."""
    pixels = job.picture.view(np.uint8).reshape(*job.picture.shape, 4)
    grey = grey_of(pixels).astype(np.uint32)
    _channel(_by_kind(Job(grey, job.blocks, job.how, job.out)), 0, signed, 2, 0)


def _pair(job: Job, signed: bool) -> None:
    parts = _by_kind(job)
    _channel(parts, 0, signed, 4, 0)
    _channel(parts, 1, signed, 4, 2)


def _bc7(job: Job) -> None:
    from brae.core.assets.texture.kernels.bc7_encode import encode_bc7, flat_bc7
    from brae.core.assets.texture.kernels.kinds import FLAT

    passes, partitions, ways = _EFFORTS[job.how.effort]
    weights = np.repeat(job.weights()[None], 3, axis=0)
    weights[1, 3] = weights[2, :3] = 0
    for kind, part in _by_kind(job).items():
        if kind == FLAT:
            over_rows(flat_bc7, part.blocks.size, job.picture, part.blocks, _exact_ends(), job.out, worth=4096)
        else:
            part.run(encode_bc7, weights, passes, partitions, np.array(ways[kind], np.int64), job.out)


@dataclass(eq=False)
class HalfBlocks(Blocks):
    """BC6H: three half floats a pixel, never clipped to 8 bits."""

    name: str
    title: str
    signed: bool
    block_bytes: int = 16
    alpha: Alpha = "none"
    holds: str = "rgb"
    block: tuple[int, int] = (4, 4)
    precision: Precision = "float"

    def decode(self, data: bytes, width: int, height: int) -> Picture:
        from brae.core.assets.texture.kernels.bc6h import decode_bc6h

        words = np.frombuffer(exact(self, data, width, height), "<u4").astype(np.uint32)
        halves = np.empty((height, width, 3), np.uint16)
        over_rows(decode_bc6h, -(-height // 4), words, self.signed, halves)
        out = np.ones((height, width, 4), np.float32)
        out[..., :3] = halves.view(np.float16)
        return out

    def encode(self, picture: Picture, how: How = DEFAULT) -> bytes:
        from brae.core.assets.texture.kernels.bc6h import encode_bc6h
        from brae.core.assets.texture.kernels.lanes import LANES

        kernels.ready.wait()
        light = np.nan_to_num(as_precision(picture, "float")[..., :3], nan=0.0)
        halves = light.clip(-65504 if self.signed else 0, 65504).astype(np.float16).view(np.uint16)
        height, width = halves.shape[:2]
        out, blocks = targets(self, width, height, how)
        passes, tries = _TRIES[how.effort]
        weights = np.array(PERCEPTUAL if how.perceptual else PLAIN, np.float32)
        weights[3] = 0
        if blocks.size:
            groups = -(-blocks.size // LANES)
            over_rows(encode_bc6h, groups, halves, blocks, self.signed, weights, passes, tries, out, worth=2)
        return out.astype("<u4", copy=False).tobytes()


BC1 = register(BlockCompressed("bc1", "BC1", 8, "binary", "decode_bc1", _bc1))
BC2 = register(BlockCompressed("bc2", "BC2", 16, "full", "decode_bc2", _bc2))
BC3 = register(BlockCompressed("bc3", "BC3", 16, "full", "decode_bc3", _bc3))
#: the same where alpha is no transparency, so that colours count where it is 0
BC3_DATA = BlockCompressed("bc3", "BC3", 16, "full", "decode_bc3", lambda job: _bc3(job, 0))
BC4 = register(BlockCompressed("bc4", "BC4", 8, "none", "decode_bc4", lambda job: _grey(job, False), "l"))
BC5 = register(BlockCompressed("bc5", "BC5", 16, "none", "decode_bc5", lambda job: _pair(job, False), "rg"))
BC4S = register(
    BlockCompressed("bc4s", "BC4 signed", 8, "none", "decode_bc4", lambda job: _grey(job, True), "l", True)
)
BC5S = register(
    BlockCompressed("bc5s", "BC5 signed", 16, "none", "decode_bc5", lambda job: _pair(job, True), "rg", True)
)
BC6H = register(HalfBlocks("bc6h", "BC6H", False))
BC6HS = register(HalfBlocks("bc6hs", "BC6H signed", True))
BC7 = register(BlockCompressed("bc7", "BC7", 16, "full", "decode_bc7", _bc7))
