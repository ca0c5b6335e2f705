"""IMA ADPCM that is not in WAV's blocks: codes of four bits for each channel by itself, with or without its state.

The state is the sample before the first code and the number of the step. It stands in a head before each block of
codes, once before all of them, in the archive's records, or is 0 and 0. Whether the sample in it is heard itself
differs: of WAV's blocks it is (``sample``), of AIFF-C's it is not (``predictor``, its upper nine bits). That games
store it in each of these ways is common practice, no source.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from brae.core.assets.sound.bits import Head
from brae.core.assets.sound.ima import MOVES, STEPS

Numbers = np.ndarray[Any, Any]
#: bits of the state of a block in a WAV file
WAV_STATE = "sample 16, step 8, rest 8"
_LAST_STEP = len(STEPS) - 1


@dataclass(frozen=True)
class Run:
    """One channel: its heads (count,) as numbers, and behind each its codes (count, codes of one)."""

    heads: Numbers
    codes: Numbers


@dataclass(frozen=True)
class Runs:
    """How runs begin: with a head, or all from one state."""

    head: Head | None
    start: tuple[int, int] = (0, 0)

    @property
    def heard(self) -> int:
        """Samples that a head holds: 1 or 0."""
        return int(self.head is not None and self.head.bits("sample") > 0)

    @property
    def _name(self) -> str:
        return "sample" if self.heard else "predictor"

    def states(self, run: Run) -> tuple[Numbers, Numbers]:
        """The sample and the step's number from which each run begins."""
        if self.head is None:
            ones = np.ones(len(run.codes), np.int64)
            return ones * self.start[0], ones * min(max(self.start[1], 0), _LAST_STEP)
        values, bits = self.head.get(run.heads, self._name), self.head.bits(self._name)
        if bits < 16:
            values = values << (16 - bits)
        values = (values & 0xFFFF ^ 0x8000) - 0x8000
        return values, np.minimum(self.head.get(run.heads, "step"), _LAST_STEP)

    def decode(self, run: Run) -> Numbers:
        """Samples of 16 bits, shape (frames,)."""
        from brae.core.assets.sound.kernels import decode_ima_runs

        out = np.zeros((len(run.codes), run.codes.shape[1] + self.heard), np.int16)
        decode_ima_runs(run.codes, *self.states(run), self.heard, STEPS, MOVES, out)
        return out.reshape(-1)

    def encode(self, samples: Numbers, old: Run, per: int | None) -> Run:
        """Samples as runs of ``per`` codes (None: as one); the last is filled with the last sample.

        What of ``old`` comes as near stays, and so do the bits of a head that say something else.
        """
        if per is not None and self.head is not None:
            return self._blocks(samples, old, per)
        return self._whole(samples, old)

    def _blocks(self, samples: Numbers, old: Run, per: int) -> Run:
        from brae.core.assets.sound.kernels import encode_ima_runs

        assert self.head is not None
        size = per + self.heard
        count = max(-(-len(samples) // size), 1)
        filled = np.zeros(count * size, np.int16)
        filled[: len(samples)] = samples
        if len(samples):
            filled[len(samples) :] = samples[-1]
        wanted = filled.reshape(count, size)
        codes, states = np.zeros((count, per), np.uint8), np.zeros((count, 2), np.int64)
        lost = max(16 - self.head.bits(self._name), 0)
        encode_ima_runs(wanted, self.heard, lost, STEPS, MOVES, codes, states)
        heads = self._heads(old, count, states)
        both = min(count, len(old.codes))
        before = self.decode(old).reshape(-1, size)[:both] if both else wanted[:0]
        same = before == wanted[:both]
        if both == count and both:
            # What lies behind the samples is nobody's.
            same[-1, len(samples) - (count - 1) * size :] = True
        kept = np.flatnonzero(same.all(axis=1))
        codes[kept], heads[kept] = old.codes[kept], old.heads[kept]
        return Run(heads, codes)

    def _whole(self, samples: Numbers, old: Run) -> Run:
        from brae.core.assets.sound.kernels import encode_ima_run

        wanted = np.ascontiguousarray(samples, np.int16)
        heads, state = old.heads, [int(one[0]) if len(one) else 0 for one in self.states(old)]
        if self.head is not None and len(wanted):
            before = self.decode(old)[: len(wanted)]
            first = min(len(before), 64)
            if not first or not np.array_equal(before[:first], wanted[:first]):
                lost = max(16 - self.head.bits(self._name), 0)
                rises = np.abs(np.diff(wanted[:16].astype(np.int64)))
                step = int(np.searchsorted(STEPS, rises.mean())) if len(rises) else 0
                state = [min(int(wanted[0]) + (1 << lost >> 1), 32767) >> lost << lost, min(step, _LAST_STEP)]
                heads = self._heads(old, 1, np.array([state]))
        codes = np.zeros((1, max(len(wanted) - self.heard, 0)), np.uint8)
        encode_ima_run(wanted[self.heard :], old.codes.reshape(-1), *state, STEPS, MOVES, codes[0])
        return Run(heads, codes)

    def _heads(self, old: Run, count: int, states: Numbers) -> Numbers:
        """Heads with such states, and what the original's say besides."""
        assert self.head is not None
        last = len(old.heads) - 1
        before = old.heads[np.minimum(np.arange(count), last)] if last >= 0 else np.zeros(count, np.int64)
        values = states[:, 0] >> max(16 - self.head.bits(self._name), 0)
        return self.head.put(self.head.put(before, self._name, values), "step", states[:, 1])
