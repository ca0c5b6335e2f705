"""Channels that lie beside each other: sample by sample, in turns of some bytes, or one whole after the other."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np


def split(data: bytes, channels: int, turn: int | None) -> tuple[list[bytes], bytes]:
    """Each channel's bytes, and what is left behind them.

    ``turn``: bytes of one channel before the next one's; None: each channel is whole. What is too short for a turn
    of all channels is shared out equally.
    """
    if channels == 1:
        return [data], b""
    length = turn or max(len(data) // channels, 1)
    whole = len(data) // (length * channels) * length * channels
    turns = np.frombuffer(data, np.uint8)[:whole].reshape(-1, channels, length)
    short = (len(data) - whole) // channels
    rest = data[whole:]
    planes = [
        turns[:, channel].tobytes() + rest[channel * short : (channel + 1) * short] for channel in range(channels)
    ]
    return planes, rest[channels * short :]


def join(planes: Sequence[bytes], turn: int | None) -> bytes:
    """The inverse, of channels of the same length."""
    if len(planes) == 1:
        return planes[0]
    size = len(planes[0])
    length = turn or max(size, 1)
    whole = size // length * length
    turns = [np.frombuffer(plane, np.uint8)[:whole].reshape(-1, length) for plane in planes]
    return np.stack(turns, axis=1).tobytes() + b"".join(plane[whole:] for plane in planes)
