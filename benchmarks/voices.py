"""Words and phonemes placed on sentences of espeak-ng in six voices, against its own times.

The limits of ``align`` were set on the first half of the sentences, in five voices; the figures are of the second,
half of them in voices (a Scottish one, a slow and a British one) that nothing was set on.
"""

from __future__ import annotations

import time
from contextlib import suppress

import numpy as np
from tests.core.voices.spoken import Spoken, speak

from benchmarks.report import report
from brae.core.errors import FormatError
from brae.core.voices import plainly
from brae.core.voices.align import align

#: each with the words that it says in a minute
VOICES = (
    ("en-us", 160), ("en-us+f3", 160), ("en-029", 180),
    ("en-gb-scotland", 160), ("en-us+m7", 110), ("en-gb-x-rp", 170),
)  # fmt: skip
SET_ON = """
the boat leaves at seven | rain again said the keeper | seven parcels for the lighthouse
the wind turned north in the night | letters for every island | row slowly past the rocks
a gull took the bread | the harbour is closed today | nobody has seen the dog | bring the lamp and the rope
put the mail on the table | she opened the old door | snow fell on the mountain | we found three silver coins
the captain wants fresh water | give this stamp to the baker | winter comes early this year
count the boxes again please | my brother lives by the river | the music stopped at midnight
"""
OTHERS = """
where did you leave the blue umbrella | it takes an hour to cross the sound | the children are waiting outside
please write your name on the parcel | he sold his horse and bought a bicycle | the bridge was built of stone
there is a hole in the bottom of the bucket | our cousin plays the fiddle on friday
they never answered our last letter | the teacher drew a map of the coast | a cold morning and a warm fire
it was the smallest stamp she had ever seen | the baker burned eleven loaves | turn left behind the church
who put salt into my coffee | the lighthouse keeper reads by candle light | hang the nets up to dry
we could hear them singing from the shore | the goat jumped over the garden wall | send it back to the office
eight men carried the heavy chest | a strange light moved across the water | the ice was thin near the pier
nothing ever happens on this island | the old clock needs a new spring | there are better days ahead of us
the dog sleeps under the kitchen table | no ship came into the bay that week | she counted the seals on the rock
bring me a hammer and a box of nails | the path goes down to the beach | it smelled of tar and fresh bread
"""
#: sentences of other languages; what is measured of the classes of sounds is of English ones
LANGUAGES = {
    "de": "das boot fährt um sieben uhr | die alte frau wohnt am hafen | morgen kommt der regen wieder",
    "es": "el barco sale a las siete | la casa vieja está cerca del puerto | mi hermano vive en la isla",
    "fr": "le bateau part à sept heures | la vieille dame habite au port | demain la pluie revient",
    "it": "la barca parte alle sette | il vecchio marinaio guarda il mare | domani torna la pioggia",
    "fi": "vene lähtee kello seitsemän | vanha nainen asuu satamassa | huomenna sade palaa",
    "pl": "statek odpływa o siódmej | stara kobieta mieszka w porcie | jutro wróci deszcz",
    "ru": "лодка уходит в семь часов | старая женщина живёт на острове | завтра вернётся дождь",
    "el": "το πλοίο φεύγει στις επτά | η γριά μένει στο λιμάνι | αύριο θα βρέξει πάλι",
}
#: seconds of a line whose placing is timed
_LINE = 10


def _sentences(text: str) -> list[str]:
    return [one.strip() for line in text.strip().splitlines() for one in line.split("|")]


def _samples(spoken: Spoken) -> np.ndarray:
    return spoken.samples[:, None] / 32768


def _in_other_languages() -> None:
    """Words placed without a model: eight languages, and the English sentences of above."""
    english: list[float] = []
    others: list[float] = []
    texts = {**LANGUAGES, "en-us": OTHERS}
    for voice, text in texts.items():
        for sentence in _sentences(text):
            spoken = speak(sentence, voice, 150)
            track = plainly.align(_samples(spoken), spoken.rate, sentence)
            said = [start for word, start in spoken.words if word]
            if len(said) == len(track.words):
                far = [abs(word.start - start) for word, start in zip(track.words, said, strict=True)]
                (english if voice == "en-us" else others).extend(far)
    for what, far in (("eight languages", others), ("English", english)):
        middle = 1000 * float(np.median(far))
        told = f"{middle:.0f} ms of {len(far)}"
        report(f"words without a model, {what}: median error", told, "at most 70 ms", middle <= 70)


def run() -> None:
    """All lines of this part."""
    _in_other_languages()
    sentences = _sentences(OTHERS)
    words: list[float] = []
    phonemes: list[float] = []
    refused = taken = inserted = count = 0
    for voice, speed in VOICES:
        for number, text in enumerate(sentences):
            spoken = speak(text, voice, speed)
            samples = _samples(spoken)
            track = align(samples, spoken.rate, text)
            count += 1
            refused += not track.said
            for place, (word, (_, start)) in enumerate(zip(track.words, spoken.words, strict=False)):
                words.append(abs(word.start - start))
                after = spoken.words[place + 1][1] if place + 1 < len(spoken.words) else np.inf
                own = [at for name, at in spoken.phonemes if start <= at < after and not name.startswith("_")]
                if len(own) == len(word.phonemes):
                    phonemes += [abs(one.start - at) for one, at in zip(word.phonemes, own, strict=True)]
            with suppress(FormatError):  # more words than there is time for
                taken += align(samples, spoken.rate, sentences[(number + 5) % len(sentences)]).said
            more = text.split()
            more.insert(len(more) // 2, "chocolate")
            found = align(samples, spoken.rate, " ".join(more))
            inserted += not found.said or any(word.doubtful for word in found.words if word.text == "chocolate")
    at_words, at_phonemes = (1000 * float(np.median(one)) for one in (words, phonemes))
    what = f"of {count} sentences"
    report(f"words {what}: median error", f"{at_words:.0f} ms", "at most 30 ms", at_words <= 30)
    report(f"phonemes {what}: median error", f"{at_phonemes:.0f} ms", "at most 20 ms", at_phonemes <= 20)
    report("right sentences that are doubted", f"{refused} {what}", "at most 3 %", refused <= 0.03 * count)
    report("other sentences that are noticed", f"{count - taken} {what}", "97 %", taken <= 0.03 * count)
    share = inserted / count
    report("a word too many that is noticed", f"{share:.0%}", "at least 90 %", share >= 0.9)
    spoken = speak(". ".join(sentences[:6]))
    line = _samples(spoken)[: _LINE * spoken.rate]
    begun = time.perf_counter()
    align(line, spoken.rate, " ".join(sentences[:5]))
    seconds = time.perf_counter() - begun
    report(f"a line of {len(line) / spoken.rate:.0f} s placed", f"{seconds:.2f} s", "under 1 s", seconds < 1)
