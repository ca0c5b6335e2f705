"""How many bits bytes cost when they are read as a format: the fewest bits explain them best.

All explanations are weighed against the same bytes, so those of different formats can be compared: what is foretold
by its neighbours costs little, what a wrong format, width or palette makes of the bytes costs as much as chance
(minimum description length; J. Rissanen, 1978). Common practice otherwise, no source.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from brae.core.assets.texture import formats
from brae.core.assets.texture.formats import PixelFormat
from brae.core.assets.texture.formats.channels import Channels, PackedBits
from brae.core.assets.texture.guess.looks import middle
from brae.core.assets.texture.guess.part import Part

_Array = np.ndarray[Any, Any]
#: bytes looked at in each of three places, the same of all formats: for a first look at a width, and a closer one
FIRST_LOOK, CLOSER = 3 << 10, 1 << 14
#: of more indices the rank in a palette, which takes longest, is worked out for one of so many (a prime: no channel
#: is left out where the bytes are something else)
_RANKED, _STEP = 1 << 12, 11
#: entries in use that may have one colour, on the average (dark ones of 5 bits often do)
_ALIKE = {256: 8, 16: 2}
#: indices that tell which are in use, and pixels that tell what an alpha is
_USED = 1 << 16
#: the share of alpha that is none or full in nearly all pictures
_ENDS = 0.2
#: and what is seldom, beside what is so many times as often
_SELDOM, _MUCH_LESS = 0.05, 3
#: bytes that are looked at of formats in blocks
_BLOCK_BYTES = 1 << 19
#: shares of blocks of BC7 without a mode (none, but for what stands between levels), and of modes 4 to 7 (by chance
#: one in sixteen)
_RESERVED, _HIGH_MODES = 0.01, 0.35
#: blocks that are asked for that, and the five bits that no mode of BC6H has
_BLOCKS = 1 << 15
#: blocks of which it is asked whether they differ by turns
_FEWEST_BLOCKS = 32
_RESERVED_BC6H = np.array([0b10011, 0b10111, 0b11011, 0b11111], np.uint64)


def entropy(counts: _Array) -> float:
    """Bits of a symbol that comes so often; what it takes to know how often is part of them."""
    total = int(counts.sum())
    if total == 0:
        return 0.0
    some = counts[counts > 0]
    share = some / total
    # Half the logarithm of the number of symbols for each share (J. Rissanen, 1978).
    return float(-(share * np.log2(share)).sum() + 0.5 * (len(some) - 1) * np.log2(total) / total)


def _of_magnitudes(counts: _Array) -> float:
    """Bits of a difference: which magnitude it has, and then its sign and the bits below the first."""
    total = max(1, int(counts.sum()))
    return entropy(counts) + float((counts * np.arange(len(counts))).sum()) / total


def _universal(counts: _Array) -> float:
    """Bits of a rank by a code that knows nothing of how often it comes (P. Elias, gamma, 1975)."""
    return float((counts * 2 * np.arange(len(counts))).sum()) / max(1, int(counts.sum()))


def _conditional(left: _Array, own: _Array, many: int) -> float:
    """Bits of a symbol below ``many`` when the one beside it is known."""
    pairs = np.bincount(left.ravel().astype(np.int64) * many + own.ravel(), minlength=many * many)
    table = pairs.reshape(many, many)
    return entropy(table.ravel()) - entropy(table.sum(axis=1))


class Numbers:
    """The channels of plain pixels as numbers, colours first: ``values`` (uint8, pixels x channels)."""

    def __init__(self, pixel_format: PixelFormat, part: Part) -> None:
        self.bits: list[int]
        self._part, data = part, part.data
        raw = np.frombuffer(data, np.uint8)
        if isinstance(pixel_format, Channels):
            step = pixel_format.block_bytes
            stored = raw[: len(raw) // step * step].reshape(-1, step)
            places = sorted(range(step), key=lambda place: "RGBLAX".index(pixel_format.order[place]))
            self.values, self.bits = stored[:, places], [8] * step
        elif isinstance(pixel_format, PackedBits):
            step = pixel_format.block_bytes
            words = np.frombuffer(data[: len(data) // step * step], f"{'>' if pixel_format.big else '<'}u{step}")
            shifts = sorted(pixel_format.shifts(), key=lambda one: "RGBLA".index(one[0]))
            self.values = np.stack(
                [
                    (words >> np.array(shift, words.dtype) & ((1 << bits) - 1)).astype(np.uint8)
                    for _, bits, shift in shifts
                ],
                axis=1,
            )
            self.bits = [bits for _, bits, _ in shifts]
        elif isinstance(pixel_format, formats.Indexed):
            self.values = raw[:, None]
            if pixel_format.bits == 4:
                self.values = np.empty((2 * len(raw), 1), np.uint8)
                np.bitwise_and(raw, 15, out=self.values[::2, 0])
                np.right_shift(raw, 4, out=self.values[1::2, 0])
            self.bits = [pixel_format.bits]
        else:
            raise TypeError(pixel_format.name)

    def __len__(self) -> int:
        return len(self.values)

    def bits_of_pixel(self, width: int, look: int) -> float:
        """Bits of a pixel in rows of so many."""
        from brae.core.assets.texture.kernels.residuals import count_residuals

        channels = self.values.shape[1]
        alone, beside = np.zeros((channels, 10), np.int64), np.zeros((channels, 10), np.int64)
        bits = np.array(self.bits, np.int64)
        for first, last in self._part.spans(len(self), width, look):
            part = np.ascontiguousarray(self.values[first - width - 1 : last])
            count_residuals(part, width, bits, width + 1, len(part), alone, beside)
        return sum(
            min(_of_magnitudes(alone[c]), _of_magnitudes(beside[c]))
            if channels >= 3 and c in (0, 2)
            else _of_magnitudes(alone[c])
            for c in range(channels)
        )

    def bits_as_names(self, width: int, look: int) -> float:
        """Bits of an index whose palette is not known: equal to the one beside or above it, or any."""
        values = self.values[:, 0]
        same, many, known = 0, 0, 0
        for first, last in self._part.spans(len(self), width, look):
            own, left, up = values[first:last], values[first - 1 : last - 1], values[first - width : last - width]
            same += int(((own == left) | (own == up)).sum())
            many += len(own)
            known = max(known, int(np.count_nonzero(np.bincount(own))))
        share = same / max(1, many)
        return entropy(np.array([same, many - same])) + share + (1 - share) * float(np.log2(max(2, known)))

    def told_apart(self, colours: _Array) -> bool:
        """Whether these colours (entries x 4) show the indices in use apart: else they are no palette of them."""
        used = np.flatnonzero(np.bincount(self.values[:: max(1, len(self.values) // _USED), 0]))
        return len(np.unique(colours[used], axis=0)) * _ALIKE[len(colours)] >= len(used)

    def bits_by_palette(self, width: int, colours: _Array, aside: tuple[int, int]) -> tuple[float, float]:
        """Bits of an index by these colours (int64, entries x 4); for each what those of ``aside`` cost more."""
        counts = np.zeros(10, np.int64)
        for first, last in self._part.spans(len(self), width, CLOSER):
            self._count_ranks(first, last, width, colours, _STEP if last - first > _RANKED else 1, counts)
        first, last = aside
        if last - first == len(self):
            # None are left to compare these with.
            more = 0.0
        else:
            # The first row has no row above.
            above, these = width if first > width else 1, np.zeros(10, np.int64)
            self._count_ranks(max(first, above + 1), last, above, colours, 1, these)
            more = max(0.0, _universal(these) - _universal(counts)) * (last - first) / len(self)
        # A rank has no sign, and its first bit is known.
        below = np.maximum(np.arange(10) - 1, 0)
        return entropy(counts) + float((counts * below).sum()) / max(1, int(counts.sum())), more

    def _count_ranks(self, first: int, last: int, width: int, colours: _Array, step: int, counts: _Array) -> None:
        from brae.core.assets.texture.kernels.residuals import count_ranks

        part = np.ascontiguousarray(self.values[first - width - 1 : last, 0])
        count_ranks(part, width, colours, width + 1, len(part), step, counts)

    def like_alpha(self) -> bool:
        """Whether what is stored as alpha is often none or full, and not less than the last colour is.

        What is seldom full and nearly full all the time is none: two channels of 4 bits, say.
        """
        full = np.array([(1 << one) - 1 for one in self.bits])
        ends = ((self.values == 0) | (self.values == full)).mean(axis=0)
        if ends[-1] < max(_ENDS, ends[-2] if len(self.bits) > 2 else 0.0):
            return False
        alpha, most = self.values[:, -1], full[-1]
        nearly = ((alpha < most) & (alpha >= most - most // 16)).mean()
        return bool(nearly <= max(_ENDS, float((alpha == most).mean())))


def ends_in_alpha(part: Part) -> bool:
    """Whether the second of every two bytes looks like an alpha: none or full nearly always, the first less so."""
    pairs = np.frombuffer(part.data[: len(part.data) // 2 * 2], np.uint8).reshape(-1, 2)
    pairs = pairs[:: max(1, len(pairs) // _USED)]
    between = ((pairs != 0) & (pairs != 255)).mean(axis=0)
    return bool(between[1] < _SELDOM and between[0] > _MUCH_LESS * between[1])


def bits_of_palette(entries: _Array) -> float:
    """Bits of all entries (uint8, entries x bytes), each foretold by the one before."""
    away: _Array = np.diff(entries.astype(np.int64), axis=0, prepend=0)
    near = np.abs(((away + 128) & 255) - 128)
    magnitudes = sum((near >> bit > 0).astype(np.int64) for bit in range(8))
    each = [_of_magnitudes(np.bincount(column, minlength=10)) for column in np.asarray(magnitudes).T]
    return sum(each) * len(entries)


def _indices(numbers: _Array, bits: int) -> float:
    """Bits of a block's indices (blocks x 16), each by the one beside it, the first of a row by that above."""
    many = 1 << bits
    grid = numbers.reshape(-1, 4, 4)
    first = entropy(np.bincount(grid[:, 0, 0], minlength=many))
    down = _conditional(grid[:, :-1, 0], grid[:, 1:, 0], many)
    along = _conditional(grid[:, :, :-1], grid[:, :, 1:], many)
    return first + 3 * down + 12 * along


def _unpacked(words: _Array, start: int, bits: int) -> _Array:
    """Sixteen numbers of so many bits from bit ``start`` of 64-bit words."""
    shifts = np.uint64(start) + np.arange(16, dtype=np.uint64) * np.uint64(bits)
    return ((words[:, None] >> shifts) & np.uint64((1 << bits) - 1)).astype(np.int64)


class Blocks:
    """What blocks of BC1 to BC5 cost."""

    def __init__(self, name: str, part: Part) -> None:
        self._name, self._part, self._each = name, part, 1 if name in ("bc1", "bc4") else 2
        step = 8 * self._each
        self._words = np.frombuffer(part.data[: len(part.data) // step * step], "<u8").reshape(-1, self._each)
        words = np.frombuffer(middle(part.data, step, _BLOCK_BYTES), "<u8").reshape(-1, self._each)[:, 0]
        self._doubt = max(_in_pairs(words), _by_turns(words)) if name == "bc4" else 0.0
        if name == "bc3":
            # Opaque alpha is eight bytes of 255 in BC2, two of 255 and no indices in BC3.
            self._doubt = float((words == np.uint64(2**64 - 1)).mean())

    def _halves(self) -> list[str]:
        """What each eight bytes of a block are."""
        colours = {"bc1": ["colours"], "bc2": ["alpha", "colours"], "bc3": ["channel", "colours"]}
        return colours.get(self._name, ["channel"] * self._each)

    def bits_of_block(self, across: int) -> float:
        """Bits of a block, so many standing side by side."""
        from brae.core.assets.texture.kernels.residuals import count_residuals

        spans = self._part.spans(len(self._words), across, CLOSER)
        if across + 1 >= len(self._words):
            spans = [(0, len(self._words))]
        bits = 0.0
        for half, kind in enumerate(self._halves()):
            parts = [self._words[max(0, first - across - 1) : last, half] for first, last in spans]
            own = np.concatenate([self._words[first:last, half] for first, last in spans])
            low = [(part & np.uint64(0xFFFFFFFF)).astype(np.int64) for part in parts]
            if kind == "alpha":
                bits += _indices(_unpacked(own, 0, 4), 4)
                continue
            if kind == "channel":
                bits += _indices(_unpacked(own, 16, 3), 3)
                fields = [(shift, 8) for shift in (0, 8)]
            else:
                bits += _indices(_unpacked(own, 32, 2), 2)
                fields = [(end + shift, many) for end in (0, 16) for shift, many in ((11, 5), (5, 6), (0, 5))]
            # Of two channels none is taken from another, whatever ends there are.
            for shift, many in fields:
                counts = np.zeros((1, 10), np.int64)
                if across + 1 >= len(self._words):
                    bits += many
                    continue
                for part in low:
                    one = (part >> shift & ((1 << many) - 1)).astype(np.uint8)[:, None]
                    count_residuals(one, across, np.array([many], np.int64), across + 1, len(one), counts, counts)
                bits += _of_magnitudes(counts[0])
        return bits * (1 + self._doubt)


def _in_pairs(words: _Array) -> float:
    """How much oftener blocks equal the next one at even places than at odd ones: two channels alike."""
    if len(words) < 4:
        return 0.0
    equal = words[1:] == words[:-1]
    return max(0.0, float(equal[::2].mean() - equal[1::2].mean()))


def _by_turns(words: _Array) -> float:
    """How much blocks of BC4 differ from the next one by turns more and less: two channels of BC5.

    By the median: edges of a picture may lie at every other block, but not everywhere.
    """
    if len(words) < _FEWEST_BLOCKS:
        return 0.0
    ends = ((words & np.uint64(255)) + (words >> np.uint64(8) & np.uint64(255))).astype(np.int64)
    away = np.abs(np.diff(ends))
    even, odd = float(np.median(away[::2])), float(np.median(away[1::2]))
    return max(0.0, abs(even - odd) - 1) / max(1.0, even + odd)


def _changing(data: bytes, step: int) -> _Array:
    """The blocks that differ from the one before, with the first (blocks x bytes)."""
    blocks = np.frombuffer(data[: len(data) // step * step], np.uint8).reshape(-1, step)
    other = (blocks[1:] != blocks[:-1]).any(axis=1)
    return blocks[np.concatenate([[len(blocks) > 0], other])]


def new_blocks(part: Part, step: int) -> float:
    """The share of blocks that differ from the one before, and what it costs to say so."""
    total, other = 0, 0
    for first, last in part.spans(len(part.data) // step, 1, CLOSER):
        total += last - first
        other += len(_changing(part.data[first * step : last * step], step))
    if total < 2:
        return 1.0
    return other / total + entropy(np.array([total - other, other])) / (8 * step)


def reserved_share(name: str, data: bytes) -> float:
    """The share of different blocks (but for one, as between levels) that BC6H or BC7 leave without a meaning.

    BC6H has 14 modes of the 32 that five bits can be, two bits tell the first two of them (Microsoft, "BC6H
    Format"); BC7 has none whose first byte is 0 ("BC7 Format Mode Reference").
    """
    new = _changing(data, 16)[:_BLOCKS]
    blocks = np.unique(np.ascontiguousarray(new).view("<u8").reshape(-1, 2), axis=0)[:, 0]
    reserved = blocks & np.uint64(255) == 0 if name == "bc7" else np.isin(blocks & np.uint64(31), _RESERVED_BC6H)
    return max(0.0, float(reserved.sum() - 1)) / max(1, len(blocks))


def has_bc7_modes(data: bytes) -> bool:
    """Whether blocks of 16 bytes begin as those of BC7 do: often in modes that chance has seldom.

    A mode is the number of zero bits before the first set one (Microsoft, "BC7 Format Mode Reference").
    """
    blocks = np.frombuffer(data[: len(data) // 16 * 16], "<u8").reshape(-1, 2)
    first = np.unique(blocks, axis=0)[:, 0] & np.uint64(255)
    high = (first & np.uint64(15)) == 0
    return len(first) > 0 and float((first == 0).mean()) < _RESERVED and float(high.mean()) > _HIGH_MODES
