"""The sounds of words: from the CMU dictionary, of compounds, and else by rules from the letters."""

from __future__ import annotations

import re
from collections.abc import Callable

#: letters and what they sound like, the longest first; after Elovitz et al., "Automatic translation of English text
#: to phonetics by means of letter-to-sound rules" (NRL, 1976), much shortened and from memory
_RULES: tuple[tuple[str, str], ...] = (
    ("tion", "SH AH N"), ("sion", "ZH AH N"), ("ough", "AO"), ("augh", "AO"), ("eigh", "EY"), ("tch", "CH"),
    ("igh", "AY"), ("dge", "JH"), ("sch", "S K"), ("ch", "CH"), ("sh", "SH"), ("th", "TH"), ("ph", "F"),
    ("wh", "W"), ("ck", "K"), ("ng", "NG"), ("qu", "K W"), ("kn", "N"), ("wr", "R"), ("gh", "G"), ("ee", "IY"),
    ("ea", "IY"), ("oo", "UW"), ("ou", "AW"), ("ow", "OW"), ("oa", "OW"), ("oi", "OY"), ("oy", "OY"),
    ("ai", "EY"), ("ay", "EY"), ("au", "AO"), ("aw", "AO"), ("ie", "IY"), ("ei", "EY"), ("ey", "IY"),
    ("ar", "AA R"), ("er", "ER"), ("ir", "ER"), ("or", "AO R"), ("ur", "ER"), ("a", "AE"), ("b", "B"), ("c", "K"),
    ("d", "D"), ("e", "EH"), ("f", "F"), ("g", "G"), ("h", "HH"), ("i", "IH"), ("j", "JH"), ("k", "K"), ("l", "L"),
    ("m", "M"), ("n", "N"), ("o", "AA"), ("p", "P"), ("q", "K"), ("r", "R"), ("s", "S"), ("t", "T"), ("u", "AH"),
    ("v", "V"), ("w", "W"), ("x", "K S"), ("y", "IY"), ("z", "Z"),
)  # fmt: skip
_LONG = {"a": "EY", "e": "IY", "i": "AY", "o": "OW", "u": "UW", "y": "AY"}
_WORD = re.compile(r"[^\W_]+(?:['’][^\W_]+)*")
_ONES = [
    "zero",
    "one",
    "two",
    "three",
    "four",
    "five",
    "six",
    "seven",
    "eight",
    "nine",
    "ten",
    "eleven",
    "twelve",
    "thirteen",
    "fourteen",
    "fifteen",
    "sixteen",
    "seventeen",
    "eighteen",
    "nineteen",
]
_TENS = ["zero", "ten", "twenty", "thirty", "forty", "fifty", "sixty", "seventy", "eighty", "ninety"]


def words_of(text: str) -> list[tuple[str, list[str]]]:
    """The words of a sentence as they are written, each with those that it is spoken as (numbers are several)."""
    found = []
    for match in _WORD.finditer(text):
        written = match.group()
        plain = written.lower().replace("’", "'")
        found.append((written, _number(int(plain)) if plain.isascii() and plain.isdigit() else [plain]))
    return found


def _number(number: int) -> list[str]:
    if number < 20:
        return [_ONES[number]]
    if number < 100:
        return [_TENS[number // 10], *([_ONES[number % 10]] if number % 10 else [])]
    for size, word in ((1_000_000, "million"), (1000, "thousand"), (100, "hundred")):
        if number >= size:
            if number >= 1000 * size:
                break
            return [*_number(number // size), word, *(_number(number % size) if number % size else [])]
    return [_ONES[int(digit)] for digit in str(number)]


def sounds_of(word: str, known: Callable[[str], str | None]) -> tuple[str, bool]:
    """The sounds of a word in ARPABET, and whether they were worked out; ``known`` is the dictionary."""
    found = known(word)
    if found is not None:
        return found, False
    for at in range(3, len(word) - 2):  # lighthouse: light, house
        first, second = known(word[:at]), known(word[at:])
        if first is not None and second is not None:
            return f"{first} {second}", True
    return spelt(word), True


def spelt(word: str) -> str:
    """The sounds of letters by rules; what is no letter of English is left out."""
    plain = "".join(char for char in _ascii(word) if char.isalpha())
    # A silent e at the end makes the vowel before one consonant long: cape, note.
    silent = re.fullmatch(r"(.*[^aeiouy])?([aeiouy])([^aeiouyrwx])e", plain)
    if silent:
        before, vowel, consonant = silent.group(1) or "", silent.group(2), silent.group(3)
        return " ".join([*_by_rules(before), _LONG[vowel], *_by_rules("s" if consonant == "c" else consonant)])
    return " ".join(_by_rules(plain)) or "AH"


def _by_rules(letters: str) -> list[str]:
    sounds: list[str] = []
    at = 0
    while at < len(letters):
        if at and letters[at] == letters[at - 1] and letters[at] not in "aeiou":
            at += 1  # doubled consonants are one sound
            continue
        if letters[at] == "c" and letters[at + 1 : at + 2] in ("e", "i", "y"):
            sounds.append("S")
            at += 1
            continue
        if letters[at] == "y" and at == 0:
            sounds.append("Y")
            at += 1
            continue
        short = letters[at] in "aeiou" and letters.startswith("rr", at + 1)  # ferry, not fer
        for ending, said in _RULES:
            if letters.startswith(ending, at) and not (short and len(ending) > 1):
                sounds += said.split()
                at += len(ending)
                break
        else:
            at += 1
    return sounds


def _ascii(word: str) -> str:
    import unicodedata

    return unicodedata.normalize("NFKD", word.lower()).encode("ascii", "ignore").decode()
