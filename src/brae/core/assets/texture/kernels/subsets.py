"""Choosing how a block is divided: the partitions that lines through the subsets fit best."""

from __future__ import annotations

import numpy as np

from brae.core.assets.texture.kernels.lanes import (
    HUGE,
    LANES,
    MASK,
    MEAN,
    ONE,
    OWN,
    PIXEL,
    TOTAL,
    ZERO,
    copy,
    f4,
    fill,
)
from brae.core.assets.texture.kernels.partitions import SUBSETS
from brae.core.compiled import step

PRODUCT = OWN  # 14 rows: sums of channels and of their products, of all pixels
PART = OWN + 14  # 14 rows: of one subset
RESIDUE = OWN + 28  # what lines through the subsets leave
RANK = OWN + 29  # 4 rows: the partitions that leave least, best first
RANK_ERROR = OWN + 33  # 4 rows
REST = OWN + 37  # 14 rows: sums of the subset that is left
#: rows of the workspace
ROWS = OWN + 51


@step
def mask_subset(W, rank, subsets, part):
    """MASK: the pixels of one subset of the partition of that rank, of those that have so many."""
    row = (RANK + (rank & 3)) * LANES
    for k in range(16):
        for i in range(LANES):
            inside = SUBSETS[subsets, np.int64(W[row + i]) & 63, k] == part
            W[(MASK + k) * LANES + i] = ONE if inside else ZERO


@step
def add_products(W, k):
    """Add a pixel's channels (about the MEAN) and their products to PART."""
    k = k & 15
    for i in range(LANES):
        x, y = (
            W[(PIXEL + k) * LANES + i] - W[MEAN * LANES + i],
            W[(PIXEL + 16 + k) * LANES + i] - W[(MEAN + 1) * LANES + i],
        )
        z = W[(PIXEL + 32 + k) * LANES + i] - W[(MEAN + 2) * LANES + i]
        w = W[(PIXEL + 48 + k) * LANES + i] - W[(MEAN + 3) * LANES + i]
        W[PART * LANES + i] += x
        W[(PART + 1) * LANES + i] += y
        W[(PART + 2) * LANES + i] += z
        W[(PART + 3) * LANES + i] += w
        W[(PART + 4) * LANES + i] += x * x
        W[(PART + 5) * LANES + i] += x * y
        W[(PART + 6) * LANES + i] += x * z
        W[(PART + 7) * LANES + i] += x * w
        W[(PART + 8) * LANES + i] += y * y
        W[(PART + 9) * LANES + i] += y * z
        W[(PART + 10) * LANES + i] += y * w
        W[(PART + 11) * LANES + i] += z * z
        W[(PART + 12) * LANES + i] += z * w
        W[(PART + 13) * LANES + i] += w * w


@step
def add_residue(W, inverse, with_alpha):
    """Add to RESIDUE what the best line through the pixels summed in PART leaves: the trace less the eigenvalue."""
    s = ONE if with_alpha else ZERO
    for i in range(LANES):
        x, y, z = W[PART * LANES + i], W[(PART + 1) * LANES + i], W[(PART + 2) * LANES + i]
        w = s * W[(PART + 3) * LANES + i]
        xx, xy = W[(PART + 4) * LANES + i] - x * x * inverse, W[(PART + 5) * LANES + i] - x * y * inverse
        xz, xw = W[(PART + 6) * LANES + i] - x * z * inverse, s * W[(PART + 7) * LANES + i] - x * w * inverse
        yy, yz = W[(PART + 8) * LANES + i] - y * y * inverse, W[(PART + 9) * LANES + i] - y * z * inverse
        yw, zz = s * W[(PART + 10) * LANES + i] - y * w * inverse, W[(PART + 11) * LANES + i] - z * z * inverse
        zw, ww = s * W[(PART + 12) * LANES + i] - z * w * inverse, s * W[(PART + 13) * LANES + i] - w * w * inverse
        a, b, c, d, most = xx, xy, xz, xw, xx
        more = yy > most
        a, b, c, d, most = xy if more else a, yy if more else b, yz if more else c, yw if more else d, max(yy, most)
        more = zz > most
        a, b, c, d, most = xz if more else a, yz if more else b, zz if more else c, zw if more else d, max(zz, most)
        more = ww > most
        a, b, c, d = xw if more else a, yw if more else b, zw if more else c, ww if more else d
        e, f = xx * a + xy * b + xz * c + xw * d, xy * a + yy * b + yz * c + yw * d
        g, h = xz * a + yz * b + zz * c + zw * d, xw * a + yw * b + zw * c + ww * d
        scale = ONE / max(max(max(abs(e), abs(f)), max(abs(g), abs(h))), f4(1e-9))
        a, b, c, d = e * scale, f * scale, g * scale, h * scale
        e, f = xx * a + xy * b + xz * c + xw * d, xy * a + yy * b + yz * c + yw * d
        g, h = xz * a + yz * b + zz * c + zw * d, xw * a + yw * b + zw * c + ww * d
        value = (e * e + f * f + g * g + h * h) / max(a * e + b * f + c * g + d * h, f4(1e-9))
        W[RESIDUE * LANES + i] += max(xx + yy + zz + ww - value, ZERO)


@step
def rank_partitions(W, partitions, subsets, with_alpha):
    """RANK: the four of the first ``partitions`` that lines fit best, from MEAN of the whole block."""
    fill(W, PART, 14, ZERO)
    for k in range(16):
        add_products(W, k)
    copy(W, PART, PRODUCT, 14)
    fill(W, RANK, 4, ZERO)
    fill(W, RANK_ERROR, 4, HUGE)
    for p in range(partitions):
        fill(W, RESIDUE, 1, ZERO)
        copy(W, PRODUCT, REST, 14)
        rest = 16
        for subset in range(1, subsets):
            fill(W, PART, 14, ZERO)
            count = 0
            for k in range(16):
                if SUBSETS[subsets, p, k] == subset:
                    count += 1
                    add_products(W, k)
            add_residue(W, ONE / f4(count), with_alpha)
            for at in range(14 * LANES):
                W[REST * LANES + at] -= W[PART * LANES + at]
            rest -= count
        copy(W, REST, PART, 14)
        add_residue(W, ONE / f4(rest), with_alpha)
        copy(W, RESIDUE, TOTAL, 1)
        fill(W, RESIDUE, 1, f4(p))
        for r in range(4):
            for i in range(LANES):
                error, number = W[TOTAL * LANES + i], W[RESIDUE * LANES + i]
                old, old_number = W[(RANK_ERROR + r) * LANES + i], W[(RANK + r) * LANES + i]
                better = error < old
                W[(RANK_ERROR + r) * LANES + i] = error if better else old
                W[(RANK + r) * LANES + i] = number if better else old_number
                W[TOTAL * LANES + i] = old if better else error
                W[RESIDUE * LANES + i] = old_number if better else number
