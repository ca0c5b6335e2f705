"""Sets of phonemes: ARPABET as the CMU dictionary has it, IPA, and the visemes of MPEG-4, with what each shows.

ARPABET with its IPA signs: the CMU Pronouncing Dictionary's 39 phonemes (IPA values from memory, as handbooks of
phonetics give them for General American). Visemes: ISO/IEC 14496-2, table C-1, 0 to 14 (from memory). Which viseme
a diphthong begins with, and that of HH, which has none there, is common practice, no source.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache

#: code, IPA, viseme
_ARPABET = """
AA ɑ 10, AE æ 11, AH ʌ 10, AO ɔ 13, AW aʊ 10, AY aɪ 10, EH ɛ 11, ER ɝ 9, EY eɪ 11, IH ɪ 12, IY i 12, OW oʊ 13,
OY ɔɪ 13, UH ʊ 14, UW u 14, B b 1, P p 1, M m 1, F f 2, V v 2, TH θ 3, DH ð 3, T t 4, D d 4, K k 5, G ɡ 5, NG ŋ 5,
HH h 5, CH tʃ 6, JH dʒ 6, SH ʃ 6, ZH ʒ 6, S s 7, Z z 7, N n 8, L l 8, R ɹ 9, W w 14, Y j 12
"""
ARPABET: dict[str, tuple[str, int]] = {
    code: (ipa, int(viseme)) for code, ipa, viseme in (one.split() for one in _ARPABET.split(","))
}
#: other signs of IPA that stand for the same on a mouth (common practice, no source)
_ALSO = {
    "a": 10, "ə": 11, "ɐ": 10, "ɒ": 13, "ɜ": 9, "ɚ": 9, "e": 11, "o": 13, "r": 9, "ɾ": 4, "ʔ": 0, "ɲ": 8, "ɫ": 8,
    "x": 5, "ç": 6, "y": 14, "ø": 13, "œ": 13, "ʁ": 5, "g": 5, "β": 1, "ʎ": 8, "ɣ": 5,
}  # fmt: skip
#: what stands for nobody speaking
SILENCE = ("", "silence", "sil", "sp", "pau", "rest", "_")


@dataclass(frozen=True)
class Shape:
    """How a mouth looks: how far it is open, and how wide it is (0 to 1), and whether teeth or tongue are seen."""

    example: str
    opened: float
    wide: float
    teeth: bool = False
    tongue: bool = False


#: what is shown for a phoneme of which nobody knows anything: a mouth a little open
_UNKNOWN = 5
#: the mouth for each viseme, drawn by the examples that ISO/IEC 14496-2 gives for it; the numbers are ours
SHAPES: tuple[Shape, ...] = (
    Shape("closed, at rest", 0.0, 0.5),
    Shape("put, bed, mill", 0.0, 0.45),
    Shape("far, voice", 0.12, 0.5, teeth=True),
    Shape("think, that", 0.2, 0.5, teeth=True, tongue=True),
    Shape("tip, doll", 0.25, 0.5, teeth=True),
    Shape("call, gas", 0.35, 0.5),
    Shape("chair, join, she", 0.25, 0.3, teeth=True),
    Shape("sir, zeal", 0.12, 0.6, teeth=True),
    Shape("lot, not", 0.3, 0.5, tongue=True),
    Shape("red", 0.3, 0.35),
    Shape("car", 1.0, 0.55),
    Shape("bed", 0.6, 0.65, teeth=True),
    Shape("tip", 0.35, 0.75, teeth=True),
    Shape("top", 0.7, 0.35),
    Shape("book", 0.35, 0.15),
)


@cache
def viseme_of(code: str) -> int | None:
    """The viseme of a phoneme in ARPABET (its stress is left out), IPA, or ``v0`` to ``v14``; None of others."""
    if code.lower() in SILENCE:
        return 0
    found = re.fullmatch(r"v(\d{1,2})", code)
    if found:
        return int(found[1]) if int(found[1]) < len(SHAPES) else None
    plain = re.sub(r"[012]$", "", code.upper())
    if plain in ARPABET and code.isascii():
        return ARPABET[plain][1]
    ipa = re.sub(r"[ːˑˈˌ̩̃ʰ]", "", code)
    by_sign = dict(ARPABET.values()) | _ALSO
    if ipa in by_sign or len(ipa) > 2:
        return by_sign.get(ipa)
    return by_sign.get(ipa[:1])  # a diphthong begins like its first sign


def nearest(code: str, known: Iterable[str]) -> str | None:
    """The phoneme of a set that is the same one, or else looks most like it; None of a set without any."""
    names = [name for name in known if name.lower() not in SILENCE]
    plain = re.sub(r"[012]$", "", code.upper()) if code.isascii() else code
    arpabet = {ipa: name for name, (ipa, _) in ARPABET.items()}
    for name in names:
        own = re.sub(r"[012]$", "", name.upper()) if name.isascii() else name
        if own == plain or arpabet.get(own) == plain or arpabet.get(plain) == own:
            return name
    if not names:
        return None
    wanted = viseme_of(code)
    shape = SHAPES[_UNKNOWN if wanted is None else wanted]

    def apart(name: str) -> tuple[bool, float]:
        viseme = viseme_of(name)
        if viseme is None:
            return True, 9.0
        own = SHAPES[viseme]
        return viseme != wanted, abs(own.opened - shape.opened) + abs(own.wide - shape.wide)

    return min(names, key=apart)
