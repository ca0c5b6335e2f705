"""Microsoft ADPCM in its blocks, of whatever size the original has.

Blocks, coefficients and the table of steps: Microsoft, New Multimedia Data Types and Data Techniques, revision 3.0
(1994), MS ADPCM. The tables are from memory, checked against libsndfile both ways.
"""

from __future__ import annotations

import numpy as np

from brae.core.assets.sound.ima import Numbers, with_old

_PAIRS = np.array([(256, 0), (512, -256), (0, 0), (192, 64), (240, 0), (460, -208), (392, -232)], np.int64)
_MOVES = np.array(
    [230, 230, 230, 230, 307, 409, 512, 614, 768, 614, 512, 409, 307, 230, 230, 230], np.int64
)  # fmt: skip


def encode(samples: Numbers, block: int, old: bytes = b"") -> bytes:
    """Samples (frames, channels) of 16 bits as blocks of ``block`` bytes; the last one repeats the last sample.

    Each block takes the best of the seven pairs of coefficients. Blocks of ``old`` that hold the same samples stay.
    """
    from brae.core.assets.sound.kernels import encode_ms

    frames, channels = samples.shape
    per_block = samples_of(block, channels)
    out = np.zeros((max(-(-frames // per_block), 1), block), np.uint8)
    if frames:
        encode_ms(np.ascontiguousarray(samples, np.int16), per_block, _PAIRS, _MOVES, out)
    return with_old(out, old, samples, decode(old, block, channels), per_block)


def decode(data: bytes, block: int, channels: int) -> Numbers:
    """The samples of whole blocks, shape (frames, channels), 16 bits."""
    from brae.core.assets.sound.kernels import decode_ms

    blocks = np.frombuffer(data, np.uint8)[: len(data) // block * block].reshape(-1, block)
    per_block = samples_of(block, channels)
    out = np.zeros((len(blocks) * per_block, channels), np.int16)
    decode_ms(blocks, per_block, _PAIRS, _MOVES, out)
    return out


def form(channels: int, rate: int, block: int) -> bytes:
    """What a 'fmt ' chunk says of such blocks."""
    per_block = samples_of(block, channels)
    head = np.array([2, channels], "<u2").tobytes() + np.array([rate, rate * block // per_block], "<u4").tobytes()
    more = np.array([block, 4, 32, per_block, len(_PAIRS)], "<u2").tobytes()
    return head + more + _PAIRS.astype("<i2").tobytes()


def is_usual(form: bytes) -> bool:
    """Whether a 'fmt ' chunk has the seven pairs that everybody has: blocks are encoded with these."""
    return form[20:22] == len(_PAIRS).to_bytes(2, "little") and form[22:50] == _PAIRS.astype("<i2").tobytes()


def samples_of(block: int, channels: int) -> int:
    """How many samples of each channel a block holds."""
    return (block - 7 * channels) * 2 // channels + 2
