"""IMA ADPCM in its WAV blocks, encoded with whatever block size the original has.

Tables and step rule: IMA Digital Audio Focus and Technical Working Groups, Recommended Practices for Enhancing
Digital Audio Compatibility in Multimedia Systems, revision 3.00 (1992); blocks: Microsoft, New Multimedia Data
Types and Data Techniques, revision 3.0 (1994). The tables are from memory, checked against libsndfile's decoder.
"""

from __future__ import annotations

from typing import Any

import numpy as np

Numbers = np.ndarray[Any, Any]
STEPS = np.array(
    [
        7, 8, 9, 10, 11, 12, 13, 14, 16, 17, 19, 21, 23, 25, 28, 31, 34, 37, 41, 45, 50, 55, 60, 66, 73, 80,
        88, 97, 107, 118, 130, 143, 157, 173, 190, 209, 230, 253, 279, 307, 337, 371, 408, 449, 494, 544, 598,
        658, 724, 796, 876, 963, 1060, 1166, 1282, 1411, 1552, 1707, 1878, 2066, 2272, 2499, 2749, 3024, 3327,
        3660, 4026, 4428, 4871, 5358, 5894, 6484, 7132, 7845, 8630, 9493, 10442, 11487, 12635, 13899, 15289,
        16818, 18500, 20350, 22385, 24623, 27086, 29794, 32767,
    ],
    np.int64,
)  # fmt: skip
MOVES = np.array([-1, -1, -1, -1, 2, 4, 6, 8], np.int64)


def encode(samples: Numbers, block: int, old: bytes = b"") -> bytes:
    """Samples (frames, channels) of 16 bits as blocks of ``block`` bytes; the last one repeats the last sample.

    Blocks of ``old`` that hold the same samples stay as they are.
    """
    frames, channels = samples.shape
    per_block = samples_of(block, channels)
    blocks = max(-(-frames // per_block), 1)
    out = np.zeros((blocks, block), np.uint8)
    if frames:
        from brae.core.assets.sound.kernels import encode_ima  # Numba is slow to import

        encode_ima(np.ascontiguousarray(samples, np.int16), block, per_block, STEPS, MOVES, out)
    return with_old(out, old, samples, decode(old, block, channels), per_block)


def decode(data: bytes, block: int, channels: int) -> Numbers:
    """The samples of whole blocks, shape (frames, channels), 16 bits."""
    from brae.core.assets.sound.kernels import decode_ima

    blocks = np.frombuffer(data, np.uint8)[: len(data) // block * block].reshape(-1, block)
    per_block = samples_of(block, channels)
    out = np.zeros((len(blocks) * per_block, channels), np.int16)
    decode_ima(blocks, per_block, STEPS, MOVES, out)
    return out


def with_old(out: Numbers, old: bytes, samples: Numbers, before: Numbers, per_block: int) -> bytes:
    """Encoded blocks, with those of ``old`` whose samples (``before``) are the ones that are wanted."""
    whole = min(len(samples), len(before)) // per_block
    if whole:
        shape = (whole, -1)
        wanted, there = samples[: whole * per_block], before[: whole * per_block]
        same = (wanted.reshape(shape) == there.reshape(shape)).all(axis=1)
        blocks = np.frombuffer(old, np.uint8)[: whole * out.shape[1]].reshape(whole, -1)
        out[:whole][same] = blocks[same]
    rest = len(samples) - whole * per_block
    if len(out) > whole and len(old) >= len(out) * out.shape[1] and rest > 0:
        # The last block: what lies behind the samples is nobody's, and stays too.
        place = slice(whole * per_block, whole * per_block + rest)
        if np.array_equal(samples[place], before[place]):
            out[whole] = np.frombuffer(old, np.uint8)[whole * out.shape[1] : (whole + 1) * out.shape[1]]
    return out.tobytes()


def samples_of(block: int, channels: int) -> int:
    """How many samples of each channel a block holds."""
    return (block - 4 * channels) * 2 // channels + 1
