"""BC7 blocks from pictures: of all modes the best by error.

Source: Microsoft, "BC7 Format" and "BC7 Format Mode Reference".
"""

from __future__ import annotations

import numpy as np

from brae.core.assets.texture.kernels.bc7 import MODES
from brae.core.assets.texture.kernels.bc7_fit import (
    ALPHA,
    ALPHA_INDEX,
    BEST,
    BEST_ERROR,
    BEST_SHAPE,
    BEST_WAY,
    FEW_PARTITIONS,
    NOTHING,
    OPAQUE,
    PARTS,
    ROWS,
    WAY_SUBSETS,
    candidate,
    exchange_alpha,
    fill_clear,
    final_alpha_places,
    final_places,
    fit,
    look_at_alpha,
    prepare_places,
    settle,
)
from brae.core.assets.texture.kernels.kinds import flat_word
from brae.core.assets.texture.kernels.lanes import (
    INDEX,
    LANES,
    MASK,
    ONE,
    ZERO,
    f4,
    fill,
    load,
    means,
)
from brae.core.assets.texture.kernels.partitions import ANCHORS, SHORTER, SUBSETS
from brae.core.assets.texture.kernels.subsets import mask_subset, rank_partitions
from brae.core.compiled import kernel, step


@step
def put(words, position, count, value):
    """Add ``count`` bits to a block of two 64-bit words; returns the position behind them."""
    value = np.uint64(value)
    if position < 64:
        words[0] |= value << np.uint64(position)
        if position + count > 64:
            words[1] |= value >> np.uint64(64 - position)
    else:
        words[1] |= value << np.uint64(position - 64)
    return position + count


@step
def turn(codes, first, second, low, high):
    """Exchange two ends' channels from ``low`` to ``high``."""
    for c in range(low, high):
        codes[first + c], codes[second + c] = codes[second + c], codes[first + c]


@step
def put_indices(words, position, indices, bits, subsets, partition):
    """The indices of a block, each anchor's without its highest bit."""
    stream, length = np.uint64(0), 0
    for k in range(16):
        stream |= np.uint64(indices[k]) << np.uint64(length)
        length += bits - SHORTER[subsets, partition, k]
    return put(words, position, length, stream)


@step
def anchored(indices, codes, bits, subsets, partition, low, high):
    """Make the highest bit of every anchor's index zero, by exchanging the ends of its subset."""
    for subset in range(subsets):
        if indices[ANCHORS[subsets, partition, subset]] >> (bits - 1):
            for k in range(16):
                if SUBSETS[subsets, partition, k] == subset:
                    indices[k] = (1 << bits) - 1 - indices[k]
            turn(codes, 8 * subset, 8 * subset + 4, low, high)


@step
def write_separate(way, rotation, codes, indices, alphas, words):
    """A block of mode 4 or 5: alpha, or the channel in its place, has indices of its own."""
    mode, selection = 4 if way == 8 else way, 1 if way == 8 else 0
    bits = 3 if selection else 2
    alpha_bits = 3 if mode == 4 and not selection else 2
    anchored(indices, codes, bits, 1, 0, 0, 3)
    # The ends of alpha lie in the second subset's place.
    if alphas[0] >> (alpha_bits - 1):
        for k in range(16):
            alphas[k] = (1 << alpha_bits) - 1 - alphas[k]
        turn(codes, 8, 12, 3, 4)
    position = put(words, 0, mode + 1, 1 << mode)
    position = put(words, position, 2, rotation)
    if mode == 4:
        position = put(words, position, 1, selection)
    for c in range(3):
        position = put(words, position, MODES[mode, 4], codes[c])
        position = put(words, position, MODES[mode, 4], codes[4 + c])
    position = put(words, position, MODES[mode, 5], codes[11])
    position = put(words, position, MODES[mode, 5], codes[15])
    if selection:
        position = put_indices(words, position, alphas, alpha_bits, 1, 0)
        put_indices(words, position, indices, bits, 1, 0)
    else:
        position = put_indices(words, position, indices, bits, 1, 0)
        put_indices(words, position, alphas, alpha_bits, 1, 0)


@step
def write_shared(mode, shape, codes, indices, words):
    """A block of mode 0, 1, 2, 3, 6 or 7: one index for all channels, p-bits behind the ends but in mode 2."""
    subsets, bits = MODES[mode, 0], MODES[mode, 8]
    partition = shape if subsets > 1 else 0
    below = 0 if mode == 2 else 1
    anchored(indices, codes, bits, subsets, partition, 0, 4)
    position = put(words, 0, mode + 1, 1 << mode)
    position = put(words, position, MODES[mode, 1], partition)
    for c in range(4):
        width = MODES[mode, 5] if c == 3 else MODES[mode, 4]
        if width > 0:
            for subset in range(subsets):
                position = put(words, position, width, codes[8 * subset + c] >> below)
                position = put(words, position, width, codes[8 * subset + 4 + c] >> below)
    for subset in range(subsets if below else 0):
        position = put(words, position, 1, codes[8 * subset] & 1)
        if MODES[mode, 6] > 0:
            position = put(words, position, 1, codes[8 * subset + 4] & 1)
    put_indices(words, position, indices, bits, subsets, partition)


@step
def write_blocks(W, blocks, first, count, out):
    """The best candidate of each lane as a block of four words."""
    words = np.zeros(2, np.uint64)
    codes, indices, alphas = np.empty(24, np.int64), np.empty(16, np.int64), np.empty(16, np.int64)
    for i in range(count):
        words[:] = np.uint64(0)
        way, shape = np.int64(W[BEST_WAY * LANES + i]), np.int64(W[BEST_SHAPE * LANES + i])
        for k in range(24):
            codes[k] = np.int64(W[(BEST + k) * LANES + i])
        for k in range(16):
            indices[k] = np.int64(W[(INDEX + k) * LANES + i])
            alphas[k] = np.int64(W[(ALPHA_INDEX + k) * LANES + i])
        if way == 4 or way == 5 or way == 8:
            write_separate(way, shape, codes, indices, alphas, words)
        else:
            write_shared(way, shape, codes, indices, words)
        at = blocks[first + i] * 4
        for half in range(2):
            out[at + 2 * half] = np.uint32(words[half] & np.uint64(0xFFFFFFFF))
            out[at + 2 * half + 1] = np.uint32(words[half] >> np.uint64(32))


@kernel
def flat_bc7(first, last, picture, blocks, ends, out):
    """Blocks ``first`` to ``last``, each of one colour, exactly so by mode 5.

    ``ends`` (256 x 2): for each value two ends of 7 bits whose first step it is.
    """
    words, known = np.zeros(2, np.uint64), np.uint32(0)
    for at in range(first, last):
        word, target = flat_word(picture, blocks[at]), blocks[at] * 4
        # Beside a block of one colour there is often another of the same.
        if at == first or word != known:
            known = word
            words[:] = np.uint64(0)
            position = put(words, put(words, 0, 6, 1 << 5), 2, 0)
            for c in range(3):
                value = (word >> np.uint32(8 * c)) & np.uint32(255)
                position = put(words, put(words, position, 7, ends[value, 0]), 7, ends[value, 1])
            alpha = word >> np.uint32(24)
            position = put(words, put(words, position, 8, alpha), 8, alpha)
            # The colour's index is 1 everywhere (of the first pixel one bit is stored), alpha's 0.
            put(words, position, 31, 0x2AAAAAAB)
        for half in range(2):
            out[target + 2 * half] = np.uint32(words[half] & np.uint64(0xFFFFFFFF))
            out[target + 2 * half + 1] = np.uint32(words[half] >> np.uint64(32))


@step
def try_way(W, weights, way, shape, passes):
    """One candidate: a partition of that rank (modes 0 to 3, 7), a rotation (4, 5), or the whole block (6)."""
    subsets = WAY_SUBSETS[way]
    for part in range(1 if way == 6 else max(subsets, 2)):
        if subsets > 1:
            mask_subset(W, shape, subsets, part)
        last, bits, sharing, channels = (
            PARTS[way, part, 0],
            PARTS[way, part, 1],
            PARTS[way, part, 2],
            PARTS[way, part, 3],
        )
        fit(W, weights[channels], f4(last), bits, sharing, 1 if channels == ALPHA else passes)
        candidate(W, part)
    settle(W, way, shape)
    if subsets > 1:
        fill(W, MASK, 16, ONE)


@kernel
def encode_bc7(first, last, picture, blocks, weights, passes, partitions, ways, out):
    """Groups ``first`` to ``last`` of ``blocks``.

    ``weights`` (3 x 4): of all channels, of colour alone, of alpha. ``ways`` (n x 2): each way with the number
    of partitions or rotations it tries, way 8 being mode 4 with its indices exchanged. ``partitions``: how many are
    ranked; ``passes`` of least squares for each candidate.
    """
    W = np.zeros(ROWS * LANES, f4)
    for group in range(first, last):
        at = group * LANES
        count = load(picture, blocks, at, 0, 0, 4, W)
        look_at_alpha(W)
        means(W)
        fill_clear(W)
        fill(W, MASK, 16, ONE)
        fill(W, BEST_ERROR, 1, f4(3e30))
        opaque, some_opaque = True, False
        for i in range(count):
            opaque &= W[OPAQUE * LANES + i] > ZERO
            some_opaque |= W[OPAQUE * LANES + i] > ZERO
        ranked = NOTHING
        for row in range(ways.shape[0]):
            way, tries = ways[row, 0], ways[row, 1]
            separate, with_alpha = way == 4 or way == 5 or way == 8, way == 7
            if (opaque and (with_alpha or way == 4 or way == 8)) or (way <= 3 and not some_opaque):
                continue
            subsets = WAY_SUBSETS[way]
            wanted = NOTHING if subsets == 1 else 4 * subsets + 2 * int(with_alpha) + int(way == 0)
            if wanted != NOTHING and wanted != ranked:
                means(W)
                rank_partitions(W, FEW_PARTITIONS if way == 0 else partitions, subsets, with_alpha)
                ranked = wanted
            for shape in range(tries):
                turned = shape > 0 and separate
                if turned:
                    exchange_alpha(W, shape - 1)
                try_way(W, weights, way, shape, passes)
                if turned:
                    exchange_alpha(W, shape - 1)
        apart = prepare_places(W)
        final_places(W)
        if apart:
            final_alpha_places(W)
        write_blocks(W, blocks, at, count, out)
