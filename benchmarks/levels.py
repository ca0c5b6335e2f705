"""How often the original's own mip levels tell what they were made with."""

from __future__ import annotations

import numpy as np
from tests.core.assets.texture.chains import chained

from benchmarks.report import report
from brae.core.assets.texture.mips import MipRule, make_levels

COUNT = 100


def run() -> None:
    """All lines of this part."""
    named, same = 0, 0
    for one in chained(COUNT, 2026):
        recipe, first = one.texture.recipe(), one.texture.picture()
        named += (recipe.filter, recipe.linear) == (one.filter, one.linear)
        made = make_levels(first, 2, MipRule("colour", recipe.filter, False, recipe.linear))[1].astype(float)
        right = make_levels(first, 2, MipRule("colour", one.filter, False, one.linear))[1]
        same += float(np.sqrt(((made - right) ** 2).mean())) < 0.5
    report(
        f"levels of known making, of {COUNT}: rule named, or one that makes the same within half a step",
        f"{named}, {same}",
        "at least 90, 95",
        named >= 90 and same >= 95,
    )


if __name__ == "__main__":
    run()
