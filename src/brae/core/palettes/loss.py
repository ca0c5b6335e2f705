"""What pictures lose in other colours."""

from __future__ import annotations

import numpy as np

from brae.core.assets.texture.metrics import ciede_map
from brae.core.palettes.best import SEEN, Colours


def loss(before: Colours, after: Colours) -> dict[str, float]:
    """CIEDE2000 over the pixels that are seen, their ``mean`` and what 95 of 100 keep within (``p95``), and the
    mean squared error (``mse``) of the stored numbers.

    ``before``: uint8 (height, width, 3 or 4); ``after``: uint8 (height, width, 3).
    """
    seen = before[..., 3] >= SEEN if before.shape[-1] == 4 else np.ones(before.shape[:2], bool)
    if not seen.any():
        return {"mean": 0.0, "p95": 0.0, "mse": 0.0}
    opaque = np.full((*before.shape[:2], 1), 255, np.uint8)
    one, two = (np.concatenate([part[..., :3], opaque], axis=-1) for part in (before, after))
    apart = ciede_map(one, two)[seen]
    squared = ((before[..., :3].astype(np.float32) - after[..., :3]) ** 2)[seen].mean()
    return {
        "mean": round(float(apart.mean()), 4),
        "p95": round(float(np.percentile(apart, 95)), 4),
        "mse": round(float(squared), 4),
    }
