"""How a surface takes the light: Lambert's cosine with a floor, Blinn's highlight, a colour over it.

Lambert, Photometria (1760): what a dull surface sends back goes by the cosine between its normal and the light.
Blinn, "Models of light reflection for computer synthesized pictures" (1977): a highlight goes by a power of the
cosine between the normal and the direction halfway between the light and the eye. All on the stored values of
colours, as games of fixed pipelines did (common practice, no source).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

Floats = np.ndarray[Any, np.dtype[np.float64]]
#: towards the eye, which is far away
EYE = np.array([0.0, 0.0, 1.0])


@dataclass(frozen=True)
class Light:
    """One light that is far away, and how strongly things take it; directions are right, up, near."""

    direction: tuple[float, float, float] = (-0.45, 0.6, 0.66)
    #: what a surface shows that the light does not reach, 0 to 1
    floor: float = 0.28
    #: the strength of the highlight, and its exponent: the larger, the smaller
    highlight: float = 0.0
    shininess: float = 24.0

    @property
    def towards(self) -> Floats:
        """The direction to the light, of length one."""
        given = np.asarray(self.direction, np.float64)
        length = float(np.linalg.norm(given))
        return given / length if length > 0 else EYE

    @property
    def halfway(self) -> Floats:
        """The direction halfway between the light and the eye, of length one."""
        between = self.towards + EYE
        length = float(np.linalg.norm(between))
        return between / length if length > 1e-9 else EYE


def shown(normals: Floats, colours: Floats, light: Light) -> Floats:
    """What is seen of surfaces: normals of length one, shape (..., 3), colours 0 to 1 of the same shape."""
    facing = np.maximum(normals @ light.towards, 0)
    dull = light.floor + (1 - light.floor) * facing
    shine = light.highlight * np.where(facing > 0, np.maximum(normals @ light.halfway, 0) ** light.shininess, 0)
    return np.clip(colours * dull[..., None] + shine[..., None], 0, 1)
