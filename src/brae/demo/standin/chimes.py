"""Sounds of the disc edition, by the game's own reader: four bits a sample in frames, and what it refuses."""

from __future__ import annotations

import io
import struct
import wave
from collections.abc import Callable

from brae.demo.standin.report import Line, Report
from brae.demo.standin.voices import Silent

_RATES = (8000, 22050)
#: bytes that the game's sound memory has for one sound
_MEMORY = 32_768
_WEIGHTS = [(0, 0), (60, 0), (115, -52), (98, -55), (122, -60)]
#: what is heard in this scene, and how often what has a loop goes round in it
HEARD, _TURNS = ("horn", "engine", "gull", "buoy"), 4


class Bank:
    """The bank's table."""

    def __init__(self, data: bytes) -> None:
        if data[:4] != b"CHIM" or len(data) < 8:
            raise Silent("the bank does not begin with CHIM")
        (count,) = struct.unpack_from("<I", data, 4)
        if 8 + 32 * count > len(data):
            raise Silent(f"the bank has no room for {count} sounds")
        end = -(-(8 + 32 * count) // 64) * 64
        self._data = data
        self.sounds: dict[str, tuple[int, int, int, int, int]] = {}
        for number in range(count):
            raw, rate, channels, start, last, at, size = struct.unpack_from("<12sHHIIII", data, 8 + 32 * number)
            name = raw.rstrip(b"\0").decode("ascii", "replace")
            if at != end or channels != 1 or at + size > len(data):
                raise Silent(f"{name} lies at {at} in the bank, where {end} comes next")
            end = -(-(at + size) // 64) * 64
            self.sounds[name] = (rate, start, last, at, size)

    def read(self, name: str, turns: int) -> bytes:
        """A sound as a WAVE file of 16 bits; Silent where the game would not play it."""
        if name not in self.sounds:
            raise Silent(f"there is no {name} in the bank")
        rate, start, last, at, size = self.sounds[name]
        if not _RATES[0] <= rate <= _RATES[1]:
            raise Silent(f"{name} has {rate} Hz, the game plays {_RATES[0]} to {_RATES[1]}")
        if size % 16 or not size:
            raise Silent(f"{name} has {size} bytes, which are no whole frames")
        if size > _MEMORY:
            raise Silent(f"{name} has {size} bytes, and its place in memory {_MEMORY}")
        samples, one, two, looped = [], 0, 0, False
        for place in range(at, at + size, 16):
            head, flags = self._data[place], self._data[place + 1]
            if head >> 4 >= len(_WEIGHTS) or head & 15 > 12:
                raise Silent(f"frame {(place - at) // 16} of {name} has the head {head:#04x}")
            if bool(flags & 1) != (place + 16 == at + size):
                raise Silent(f"frame {(place - at) // 16} of {name} ends the sound, or the last one does not")
            looped = looped or bool(flags & 2)
            first, second = _WEIGHTS[head >> 4]
            for byte in self._data[place + 2 : place + 16]:
                for code in (byte & 15, byte >> 4):
                    value = (code - 16 if code > 7 else code) << 12 >> (head & 15)
                    value += (first * one + second * two + 32) // 64
                    one, two = min(max(value, -32768), 32767), one
                    samples.append(one)
        if looped != (start != 0xFFFFFFFF):
            raise Silent(f"the table and the last frame of {name} do not agree on its loop")
        if looped:
            if not start < last < len(samples):
                raise Silent(f"{name} loops from {start} to {last}, and has {len(samples)} samples")
            samples = samples[: last + 1] + samples[start : last + 1] * (turns - 1)
        stream = io.BytesIO()
        with wave.open(stream, "wb") as out:
            out.setnchannels(1)
            out.setsampwidth(2)
            out.setframerate(rate)
            out.writeframes(struct.pack(f"<{len(samples)}h", *samples))
        return stream.getvalue()


def sound(read: Callable[[str], bytes], report: Report) -> None:
    """What is heard in the scene; what the game does not play is told."""
    try:
        bank = Bank(read("CHIMES.BEL"))
    except Silent as reason:
        report.trace.append(f"no sound at all: {reason}")
        report.lines.append(Line("sounds/bank", "", fault=f"no sound at all: {reason}"))
        return
    report.trace.append(f"CHIMES.BEL: {len(bank.sounds)} sounds")
    for name in HEARD:
        line = Line(f"sounds/{name}", "")
        try:
            line.sound = bank.read(name, _TURNS)
            report.trace.append(f"{name}: heard")
        except Silent as reason:
            line.fault = f"not heard: {reason}"
            report.trace.append(f"{name} is {line.fault}")
        report.lines.append(line)
