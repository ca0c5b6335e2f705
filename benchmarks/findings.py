"""Findings that compare an edit with its original: how many damages are told, and how often nothing is wrong."""

from __future__ import annotations

import numpy as np
from tests.core.assets.texture.painted import DAMAGES, HARMLESS, MAKERS
from tests.core.assets.texture.test_painted import open_findings, original

from benchmarks.report import report

#: pictures of each damage, harmless edits in all; the limits were set on other seeds
_EACH, _HARMLESS, _SEED = 20, 500, 90_210


def run() -> None:
    """Both figures."""
    chance, told, tried = np.random.default_rng(_SEED), 0, 0
    for damage in DAMAGES.values():
        for _ in range(_EACH):
            picture = MAKERS[damage.of](chance)
            painted = np.ascontiguousarray(damage.edit(picture.copy(), chance))
            told += {finding.id for finding in open_findings(painted, original(picture))} == {damage.finding}
            tried += 1
    share = told / tried
    words = f"{tried} pictures damaged in {len(DAMAGES)} ways: told, and nothing else"
    report(words, f"{share:.1%}", "98 %", share >= 0.98)
    chance, alarms = np.random.default_rng(_SEED + 1), 0
    for number in range(_HARMLESS):
        of = list(HARMLESS)[number % len(HARMLESS)]
        edit = list(HARMLESS[of].values())[number // len(HARMLESS) % len(HARMLESS[of])]
        picture = MAKERS[of](chance)
        painted = np.ascontiguousarray(edit(picture.copy(), chance))
        alarms += bool(open_findings(painted, original(picture)))
    report(f"{_HARMLESS} harmless edits: something is said all the same", str(alarms), "0", alarms == 0)
