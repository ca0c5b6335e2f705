"""What a sound's beginning says, against files that libsndfile (through soundfile) and Python's wave wrote."""

from __future__ import annotations

import io
import wave

import numpy as np
import pytest
import soundfile

from brae.core.assets.base import HEAD, Context, Head
from brae.core.assets.sound.kind import KIND, facts_of
from brae.core.errors import UnknownFormatError
from brae.core.layouts.library import Library


@pytest.mark.parametrize(
    ("kind", "subtype", "codec"),
    [
        ("WAV", "PCM_16", "pcm"),
        ("WAV", "FLOAT", "float"),
        ("WAV", "IMA_ADPCM", "ima-adpcm"),
        ("WAV", "MS_ADPCM", "ms-adpcm"),
        ("WAV", "ULAW", "mu-law"),
        ("RF64", "PCM_16", "extensible"),
        ("AIFF", "PCM_16", "pcm"),
        ("AIFF", "FLOAT", "float"),
        ("MP3", "MPEG_LAYER_III", "mp3"),
        ("FLAC", "PCM_16", "flac"),
        ("OGG", "VORBIS", "vorbis"),
        ("OGG", "OPUS", "opus"),
    ],
)
@pytest.mark.parametrize("channels", [1, 2])
def test_facts(kind: str, subtype: str, codec: str, channels: int) -> None:
    rate = 48000 if codec == "opus" else 22050
    stream = io.BytesIO()
    samples = np.random.default_rng(1).uniform(-0.2, 0.2, (rate, channels))
    soundfile.write(stream, samples, rate, format=kind, subtype=subtype)
    data = stream.getvalue()
    said = KIND.sniff([Head(data[:HEAD], "x", len(data))], Library())[0]
    assert said is not None
    assert (said.type, said.facts["codec"]) == ({"RF64": "wav"}.get(kind, kind.lower()), codec)
    assert (said.facts["rate"], said.facts["channels"]) == (rate, channels)
    if "seconds" in said.facts:
        # ADPCM fills its last block.
        assert said.facts["seconds"] == pytest.approx(1, abs=0.05)
    assert ("seconds" in said.facts) == (kind not in ("OGG", "MP3"))


def test_a_file_of_pythons_own_and_what_is_cut_off() -> None:
    stream = io.BytesIO()
    with wave.open(stream, "wb") as file:
        file.setnchannels(2)
        file.setsampwidth(2)
        file.setframerate(11025)
        file.writeframes(bytes(4 * 5512))
    data = stream.getvalue()
    assert facts_of(data[:64]) == {"codec": "pcm", "rate": 11025, "channels": 2, "bits": 16, "seconds": 0.5}
    for length in range(len(data[:64])):
        assert facts_of(data[:length]).get("rate", 11025) == 11025
    with pytest.raises(UnknownFormatError):
        KIND.read(b"no sound", Context(Library()))
