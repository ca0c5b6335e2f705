"""Colour differences, similarity and angles against published pairs and a reference library."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from skimage.color import deltaE_ciede2000
from skimage.metrics import peak_signal_noise_ratio, structural_similarity

from brae.core.assets.texture import metrics
from brae.core.assets.texture.kernels.difference import lab_differences

# Sharma, Wu and Dalal (2005), table 1: the pairs that test the formula's corners. Values from memory; each is also
# compared with scikit-image's own implementation below, which a wrong memory would not survive.
SHARMA = np.array(
    [
        [50, 2.6772, -79.7751, 50, 0, -82.7485, 2.0425],
        [50, 3.1571, -77.2803, 50, 0, -82.7485, 2.8615],
        [50, 2.8361, -74.0200, 50, 0, -82.7485, 3.4412],
        [50, -1.3802, -84.2814, 50, 0, -82.7485, 1.0000],
        [50, -1.1848, -84.8006, 50, 0, -82.7485, 1.0000],
        [50, -0.9009, -85.5211, 50, 0, -82.7485, 1.0000],
        [50, 0, 0, 50, -1, 2, 2.3669],
        [50, -1, 2, 50, 0, 0, 2.3669],
        [50, 2.4900, -0.0010, 50, -2.4900, 0.0009, 7.1792],
        [50, 2.4900, -0.0010, 50, -2.4900, 0.0010, 7.1792],
        [50, 2.4900, -0.0010, 50, -2.4900, 0.0011, 7.2195],
        [50, 2.4900, -0.0010, 50, -2.4900, 0.0012, 7.2195],
        [50, -0.0010, 2.4900, 50, 0.0009, -2.4900, 4.8045],
        [50, -0.0010, 2.4900, 50, 0.0011, -2.4900, 4.7461],
        [50, 2.5, 0, 50, 0, -2.5, 4.3065],
        [50, 2.5, 0, 73, 25, -18, 27.1492],
        [50, 2.5, 0, 61, -5, 29, 22.8977],
        [50, 2.5, 0, 56, -27, -3, 31.9030],
        [50, 2.5, 0, 58, 24, 15, 19.4535],
        [50, 2.5, 0, 50, 3.1736, 0.5854, 1.0000],
        [60.2574, -34.0099, 36.2677, 60.4626, -34.1751, 39.4387, 1.2644],
        [63.0109, -31.0961, -5.8663, 62.8187, -29.7946, -4.0864, 1.2630],
        [22.7233, 20.0904, -46.6940, 23.0331, 14.9730, -42.5619, 2.0373],
        [2.0776, 0.0795, -1.1350, 0.9033, -0.0636, -0.5514, 0.9082],
    ]
)


def test_published_pairs() -> None:
    out = np.empty(len(SHARMA))
    lab_differences(SHARMA[:, :3].copy(), SHARMA[:, 3:6].copy(), out)
    assert out == pytest.approx(SHARMA[:, 6], abs=1e-4)
    assert out == pytest.approx(deltaE_ciede2000(SHARMA[:, :3], SHARMA[:, 3:6]), abs=1e-9)


@given(st.integers(0, 2**32 - 1))
def test_differences_are_the_librarys(seed: int) -> None:
    rng = np.random.default_rng(seed)
    one, two = rng.uniform([0, -90, -90], [100, 90, 90], (2, 40, 3))
    out = np.empty(40)
    lab_differences(one, two, out)
    assert out == pytest.approx(deltaE_ciede2000(one, two), abs=1e-8)


def test_similarity_and_noise_are_the_librarys(photo: np.ndarray) -> None:
    rng = np.random.default_rng(4)
    noisy = photo.copy()
    noisy[..., :3] = np.clip(photo[..., :3] + rng.normal(0, 9, photo[..., :3].shape), 0, 255)
    grey = np.array([0.2126, 0.7152, 0.0722])
    theirs = structural_similarity(photo[..., :3] @ grey, noisy[..., :3] @ grey, data_range=255)
    # The library leaves out the windows that reach over the edge, as this one does.
    assert metrics.ssim(photo, noisy) == pytest.approx(theirs, abs=1e-9)
    opaque, changed = photo.copy(), noisy.copy()
    opaque[..., 3] = changed[..., 3] = 255
    colour = 10 * np.log10(4 / 3)  # ours counts alpha, which is equal here, as a fourth channel
    theirs = peak_signal_noise_ratio(opaque[..., :3], changed[..., :3])
    assert metrics.psnr(opaque, changed) == pytest.approx(theirs + colour)


def test_quality_points_at_the_worst_block(photo: np.ndarray) -> None:
    opaque = photo.copy()
    opaque[..., 3] = 255
    same = metrics.quality(opaque, opaque, (4, 4))
    assert (same.psnr, same.ssim, same.worst) == (None, 1.0, None)
    spoilt = opaque.copy()
    spoilt[20:24, 40:44] = 255 - spoilt[20:24, 40:44]
    found = metrics.quality(opaque, spoilt, (4, 4))
    assert (found.worst, found.worst_side) == ([40, 20], 4)
    assert found.ciede_most >= found.worst_ciede > 5
    hot = metrics.heat(opaque, spoilt)
    assert hot[22, 42, :3].sum() > hot[0, 0, :3].sum() == 60


def test_clear_pixels_cost_nothing() -> None:
    one, two = np.zeros((8, 8, 4), np.uint8), np.full((8, 8, 4), 99, np.uint8)
    two[..., 3] = 0
    assert metrics.ciede_map(one, two).max() == 0
    assert metrics.psnr(one, two) is None


def test_angles() -> None:
    """A direction turned by a known angle about an axis in the picture's plane."""
    for degrees in (5.0, 30.0):
        one = np.full((4, 4, 4), 128, np.uint8)
        two = one.copy()
        two[..., 0] = round((np.sin(np.radians(degrees)) + 1) * 127.5)
        assert metrics.angle(one, two) == pytest.approx(degrees, abs=0.6)


def test_texels_per_unit() -> None:
    """A scale of 0.25 is 4 texels a unit: a wall of 128 units wants 512 (common practice, no source)."""
    assert metrics.side_for(128, 1 / 0.25) == 512
    assert metrics.texels_per_unit(512, 128) == 4
    for wrong in ((0, 4), (128, 0), (-1, 4)):
        with pytest.raises(ValueError):
            metrics.side_for(*wrong)
