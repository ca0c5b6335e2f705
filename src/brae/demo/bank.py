"""Sounds of the disc edition: drawn from sines and noise, four bits a sample in frames, all in one bank.

The encoder is the game's own: it shares nothing with Brae's.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np

RATE = 11025
FRAME, PER = 16, 28
#: of 64, what the sample before counts, and the one before that
FILTERS = ((0, 0), (60, 0), (115, -52), (98, -55), (122, -60))
#: what a frame's flags say: the last one; that the sound goes on in its loop then; the loop's first frame
LAST, AGAIN, LOOP = 1, 2, 4
NO_LOOP = 0xFFFFFFFF
#: where sounds may begin
STEP = 64
NAME = "CHIMES.BEL"


def _rng(number: int) -> np.random.Generator:
    return np.random.default_rng([1898, 77, number])


def _time(seconds: float) -> np.ndarray:
    return np.arange(round(seconds * RATE)) / RATE


def sounds() -> Iterator[tuple[str, np.ndarray, tuple[int, int] | None]]:
    """Names, samples from -1 to 1, and the frames between which each is played again and again."""
    t = _time(1.2)
    begin, turn = round(0.3 * RATE) // PER + 1, round(0.4 * RATE / PER)
    # Whole periods of the tone and of its trembling in the loop: 44 and 2.
    once = 2 * np.pi * t * RATE / (turn * PER)
    horn = sum(np.sin(44 * k * once + 0.4 * np.sin(2 * once)) / k for k in (1, 2, 3, 5))
    yield "horn", 0.22 * horn * np.minimum(1, t * 12), (begin, begin + turn)
    t = _time(0.9)
    engine = np.sin(2 * np.pi * 46 * t) * (0.6 + 0.4 * np.sin(2 * np.pi * 11.5 * t))
    yield "engine", 0.6 * engine + _rng(1).normal(0, 0.03, len(t)), (10, len(t) // PER)
    t = _time(0.7)
    cry = 1200 + 500 * np.sin(2 * np.pi * 3 * t) * np.exp(-t)
    yield "gull", 0.5 * np.sin(2 * np.pi * np.cumsum(cry) / RATE) * np.sin(np.pi * t / t[-1]), None
    t = _time(0.6)
    yield "splash", np.clip(_rng(2).normal(0, 0.3, len(t)) * np.exp(-6 * t), -1, 1), None
    t = _time(0.5)
    yield "knock", 0.8 * np.sin(2 * np.pi * 140 * t) * np.exp(-25 * t), None
    t = _time(0.8)
    creak = np.sign(np.sin(2 * np.pi * (30 + 30 * t) * t)) * np.sin(2 * np.pi * 640 * t)
    yield "creak", 0.3 * creak * np.sin(np.pi * t / t[-1]), None
    t = _time(1.0)
    bell = sum(np.sin(2 * np.pi * 620 * k * t) / k * np.exp(-t * (2 + k)) for k in (1, 2.76, 5.4))
    yield "buoy", 0.5 * np.asarray(bell), None
    t = _time(1.2)
    wind = np.convolve(_rng(3).normal(0, 1, len(t)), np.ones(12) / 12, "same")
    yield "wind", 0.4 * wind / np.abs(wind).max(), (0, len(t) // PER)


def packed(samples: np.ndarray, loop: tuple[int, int] | None) -> bytes:
    """Samples as frames; ``loop``: its first frame, and the one behind its last."""
    whole = np.zeros(-(-len(samples) // PER) * PER, np.int64)
    whole[: len(samples)] = np.clip(np.rint(samples * 32767), -32768, 32767)
    one = two = 0
    out = bytearray()
    count = len(whole) // PER if loop is None else min(loop[1], len(whole) // PER)
    for frame in range(count):
        wanted = whole[frame * PER : (frame + 1) * PER].tolist()
        best: tuple[int, bytes, int, int] | None = None
        for number, (first, second) in enumerate(FILTERS):
            before = [two, one, *wanted]
            most = max(abs(wanted[k] - (first * before[k + 1] + second * before[k] + 32 >> 6)) for k in range(PER))
            gain = max((most // 7).bit_length(), 0)
            for shift in {max(12 - gain, 0), min(max(13 - gain, 0), 12)}:
                codes, a, b, lost = [], one, two, 0
                for value in wanted:
                    guess = first * a + second * b + 32 >> 6
                    code = min(max((value - guess + (1 << 12 - shift >> 1)) >> 12 - shift, -8), 7)
                    b, a = a, min(max(guess + (code << 12 - shift), -32768), 32767)
                    lost += (a - value) ** 2
                    codes.append(code & 15)
                if best is None or lost < best[0]:
                    pairs = bytes(low | high << 4 for low, high in zip(codes[::2], codes[1::2], strict=True))
                    best = lost, bytes([shift | number << 4]) + pairs, a, b
        assert best is not None
        _, made, one, two = best
        flags = LOOP if loop is not None and frame == loop[0] else 0
        if frame == count - 1:
            flags |= LAST | (AGAIN if loop is not None else 0)
        out += made[:1] + bytes([flags]) + made[1:]
    return bytes(out)


def bank() -> bytes:
    """The bank: names, rates, loops in samples, and where each sound's frames lie."""
    found = [(name, packed(samples, loop), loop) for name, samples, loop in sounds()]
    place = -(-(8 + 32 * len(found)) // STEP) * STEP
    table, body = bytearray(), bytearray()
    for name, data, loop in found:
        start, end = (NO_LOOP, NO_LOOP) if loop is None else (loop[0] * PER, len(data) // FRAME * PER - 1)
        table += struct.pack("<12sHHIIII", name.encode(), RATE, 1, start, end, place + len(body), len(data))
        body += data + bytes(-len(data) % STEP)
    head = struct.pack("<4sI", b"CHIM", len(found)) + bytes(table)
    return head + bytes(-len(head) % STEP) + bytes(body)
