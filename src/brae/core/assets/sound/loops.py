"""Loops: where they go in a sound of another length, whether their seam is heard, and what closes it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TypeAlias

import numpy as np

from brae.core.assets.sound.pieces import Samples

#: first and last sample, both included
Loop: TypeAlias = "tuple[int, int]"
#: seconds around a loop's ends in which a better place is looked for, and over which its seam is blended
_NEAR, _BLEND = 0.01, 0.03
#: A seam is heard where the signal jumps so many times as far as it moves from sample to sample around it, by so
#: much of the loop's loudest sample, and by so much of full scale (common practice, no source).
_STEEP, _LEAST, _FAINT = 2.5, 0.03, 0.0005
#: seconds around the seam in which it is looked how the signal moves
_AROUND = 0.01


def jump(samples: Samples, loop: Loop, rate: int) -> float:
    """How far the signal jumps where the loop's last sample is followed by its first, of its loudest sample.

    0 where it moves as far around there anyway, so that nothing is heard.
    """
    start, end = loop
    if not 0 <= start < end < len(samples):
        return 0.0
    reach = max(int(_AROUND * rate), 2)
    far = 0.0
    for channel in samples.T:
        # As it would go on from the last two samples: a steep signal is no jump.
        wanted = channel[end] + (channel[end] - channel[end - 1]) / 2 + (channel[start + 1] - channel[start]) / 2
        ends = channel[max(end - reach, start) : end + 1], channel[start : min(start + reach, end) + 1]
        usual = float(np.percentile(np.concatenate([np.abs(np.diff(one)) for one in ends]), 98))
        found, loudest = abs(float(channel[start] - wanted)), float(np.abs(channel[start : end + 1]).max())
        if found > max(_STEEP * usual, _LEAST * loudest, _FAINT):
            far = max(far, found / loudest)
    return far


def moved(loops: Sequence[Loop], before: int, samples: Samples, rate: int) -> list[Loop]:
    """Loops of a sound of ``before`` samples in one of another length: in proportion, then where they close best.

    Both ends go to the nearest place where the signal rises through zero, so that the seam goes on as it ran.
    """
    last = len(samples) - 1
    if last < 1:
        return [(0, 0) for _ in loops]
    scale = len(samples) / max(before, 1)
    found = []
    for start, end in loops:
        first = min(round(start * scale), last)
        # A loop of the whole stays one.
        stop = last if end >= before - 1 else min(round(end * scale), last)
        if start > 0:
            first = _rising(samples, first, rate)
        if stop < last:
            stop = max(_rising(samples, stop + 1, rate) - 1, 0)
        found.append((first, stop) if stop > first else (min(round(start * scale), last), last))
    return found


def _rising(samples: Samples, at: int, rate: int) -> int:
    """The nearest place at which the first channel rises through zero, and ``at`` where none is near."""
    reach = max(int(_NEAR * rate), 1)
    low, high = max(at - reach, 1), min(at + reach, len(samples) - 1)
    part = samples[low - 1 : high + 1, 0]
    places = np.flatnonzero((part[:-1] < 0) & (part[1:] >= 0)) + low
    return int(places[np.abs(places - at).argmin()]) if len(places) else at


def blended(samples: Samples, loops: Sequence[Loop], rate: int) -> Samples:
    """Samples in which each loop ends as what stands before its beginning, so that it runs on into it.

    The last part of a loop is faded into as long a part before its first sample (equal gain). Where there is
    nothing before it, the difference at the seam is spread over the loop's last part.
    """
    result = samples.copy()
    for start, end in loops:
        if not 0 <= start < end < len(samples):
            continue
        length = min(max(int(_BLEND * rate), 2), (end - start) // 2)
        before = min(length, start)
        if length < 2:
            continue
        if before >= min(length, 16):
            weight = np.linspace(0, 1, before + 1)[1:, None]
            place = slice(end - before + 1, end + 1)
            result[place] = result[place] * (1 - weight) + samples[start - before : start] * weight
        else:
            weight = np.linspace(0, 1, length + 1)[1:, None] ** 2
            step = samples[start + 1] - samples[start]
            result[end - length + 1 : end + 1] += weight * (samples[start] - step - samples[end])
    return result
