"""Sentences spoken by espeak-ng (Debian's package), with its own times of words and phonemes as the truth."""

from __future__ import annotations

import pytest

from brae.demo.speech import Spoken, spoken_by_espeak

__all__ = ["Spoken", "speak"]


def speak(text: str, voice: str = "en-us", speed: int = 160) -> Spoken:
    """Speak a sentence; skips the test where espeak-ng is not installed."""
    found = spoken_by_espeak(text, voice, speed)
    if found is None:
        pytest.skip("espeak-ng is not installed")
    return found
