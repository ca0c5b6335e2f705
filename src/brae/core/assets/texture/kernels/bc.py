"""Decoding BC1 to BC5 blocks (Microsoft, "Texture Block Compression in Direct3D 11", the section of each).

Pictures are uint32 arrays (height, width) of R, G, B, A in that order of bytes; blocks are uint32 words, two
(BC1) or four (BC3) to a block, rows of blocks from the top.
"""

from __future__ import annotations

import numpy as np

from brae.core.compiled import kernel, step

U8, U2 = np.uint32(8), np.uint32(2)
OPAQUE = np.uint32(0xFF000000)
BYTE = np.uint32(255)


@step
def expand565(colour):
    """R, G, B of 8 bits of a 16-bit colour: the high bits are repeated in the low ones."""
    r, g, b = (
        (colour >> np.uint32(11)) & np.uint32(31),
        (colour >> np.uint32(5)) & np.uint32(63),
        colour & np.uint32(31),
    )
    return (r << np.uint32(3)) | (r >> U2), (g << U2) | (g >> np.uint32(4)), (b << np.uint32(3)) | (b >> U2)


@step
def pack_rgb(r, g, b):
    """One word of three 8-bit channels, alpha zero."""
    return np.uint32(r) | (np.uint32(g) << U8) | (np.uint32(b) << np.uint32(16))


@step
def colour_palette(c0, c1, four, palette):
    """The four words of a colour block without alpha; in three-colour mode the last is clear black."""
    r0, g0, b0 = expand565(c0)
    r1, g1, b1 = expand565(c1)
    three = np.uint32(3)
    palette[0] = pack_rgb(r0, g0, b0)
    palette[1] = pack_rgb(r1, g1, b1)
    if four:
        palette[2] = pack_rgb((r0 * U2 + r1) // three, (g0 * U2 + g1) // three, (b0 * U2 + b1) // three)
        palette[3] = pack_rgb((r0 + r1 * U2) // three, (g0 + g1 * U2) // three, (b0 + b1 * U2) // three)
    else:
        one = np.uint32(1)
        palette[2] = pack_rgb((r0 + r1) >> one, (g0 + g1) >> one, (b0 + b1) >> one)
        palette[3] = np.uint32(0)


@step
def alpha_palette(a0, a1, palette):
    """The eight values of an alpha block."""
    palette[0] = a0
    palette[1] = a1
    if a0 > a1:
        for k in range(1, 7):
            palette[k + 1] = (np.uint32(7 - k) * a0 + np.uint32(k) * a1) // np.uint32(7)
    else:
        for k in range(1, 5):
            palette[k + 1] = (np.uint32(5 - k) * a0 + np.uint32(k) * a1) // np.uint32(5)
        palette[6] = np.uint32(0)
        palette[7] = BYTE


@kernel
def decode_bc1(first, last, blocks, out):
    """Decode block rows ``first`` to ``last`` into ``out`` (uint32, height x width)."""
    height, width = out.shape
    across = (width + 3) >> 2
    palette = np.empty(4, np.uint32)
    for by in range(first, last):
        for bx in range(across):
            at = (by * across + bx) * 2
            c0, c1 = blocks[at] & np.uint32(0xFFFF), blocks[at] >> np.uint32(16)
            indices = blocks[at + 1]
            colour_palette(c0, c1, c0 > c1, palette)
            palette[0] |= OPAQUE
            palette[1] |= OPAQUE
            palette[2] |= OPAQUE
            if c0 > c1:
                palette[3] |= OPAQUE
            for y in range(min(4, height - by * 4)):
                for x in range(min(4, width - bx * 4)):
                    out[by * 4 + y, bx * 4 + x] = palette[(indices >> np.uint32(8 * y + 2 * x)) & np.uint32(3)]


@kernel
def decode_bc3(first, last, blocks, out):
    """The same for BC3, whose colour always has four values."""
    height, width = out.shape
    across = (width + 3) >> 2
    palette, alphas = np.empty(4, np.uint32), np.empty(8, np.uint32)
    for by in range(first, last):
        for bx in range(across):
            at = (by * across + bx) * 4
            low, high, ends, indices = blocks[at], blocks[at + 1], blocks[at + 2], blocks[at + 3]
            alpha_palette(low & BYTE, (low >> U8) & BYTE, alphas)
            alpha_indices = (np.uint64(high) << np.uint64(16)) | np.uint64(low >> np.uint32(16))
            colour_palette(ends & np.uint32(0xFFFF), ends >> np.uint32(16), True, palette)
            for y in range(min(4, height - by * 4)):
                for x in range(min(4, width - bx * 4)):
                    k = 4 * y + x
                    alpha = alphas[(alpha_indices >> np.uint64(3 * k)) & np.uint64(7)]
                    out[by * 4 + y, bx * 4 + x] = palette[(indices >> np.uint32(2 * k)) & np.uint32(3)] | (
                        alpha << np.uint32(24)
                    )


@kernel
def decode_bc2(first, last, blocks, out):
    """The same for BC2: four bits of alpha for each pixel, colour of four values."""
    height, width = out.shape
    across = (width + 3) >> 2
    palette = np.empty(4, np.uint32)
    for by in range(first, last):
        for bx in range(across):
            at = (by * across + bx) * 4
            alphas = (np.uint64(blocks[at + 1]) << np.uint64(32)) | np.uint64(blocks[at])
            ends, indices = blocks[at + 2], blocks[at + 3]
            colour_palette(ends & np.uint32(0xFFFF), ends >> np.uint32(16), True, palette)
            for y in range(min(4, height - by * 4)):
                for x in range(min(4, width - bx * 4)):
                    k = 4 * y + x
                    alpha = np.uint32((alphas >> np.uint64(4 * k)) & np.uint64(15)) * np.uint32(17)
                    out[by * 4 + y, bx * 4 + x] = palette[(indices >> np.uint32(2 * k)) & np.uint32(3)] | (
                        alpha << np.uint32(24)
                    )


@step
def channel_palette(blocks, at, is_signed, unit, palette):
    # From two's complement to values about 128; the steps are rounded down as ever.
    low, high = blocks[at], blocks[at + 1]
    a0, a1 = low & BYTE, (low >> U8) & BYTE
    if is_signed:
        # From two's complement to values about 128; the steps are rounded down as ever.
        a0, a1 = a0 ^ np.uint32(128), a1 ^ np.uint32(128)
    alpha_palette(a0, a1, palette)
    for k in range(8):
        palette[k] *= unit
    return (np.uint64(high) << np.uint64(16)) | np.uint64(low >> np.uint32(16))


@kernel
def decode_bc4(first, last, blocks, is_signed, out):
    """One channel, shown as grey."""
    height, width = out.shape
    across = (width + 3) >> 2
    palette = np.empty(8, np.uint32)
    for by in range(first, last):
        for bx in range(across):
            indices = channel_palette(blocks, (by * across + bx) * 2, is_signed, np.uint32(0x10101), palette)
            for k in range(8):
                palette[k] |= OPAQUE
            if by * 4 + 4 <= height and bx * 4 + 4 <= width:
                for k in range(16):
                    out[by * 4 + (k >> 2), bx * 4 + (k & 3)] = palette[indices & np.uint64(7)]
                    indices >>= np.uint64(3)
                continue
            for y in range(min(4, height - by * 4)):
                row = indices >> np.uint64(12 * y)
                for x in range(min(4, width - bx * 4)):
                    out[by * 4 + y, bx * 4 + x] = palette[(row >> np.uint64(3 * x)) & np.uint64(7)]


@kernel
def decode_bc5(first, last, blocks, is_signed, out):
    """Two channels, shown as red and green; blue is the middle of what has a sign."""
    height, width = out.shape
    across = (width + 3) >> 2
    reds, greens = np.empty(8, np.uint32), np.empty(8, np.uint32)
    rest = OPAQUE | (np.uint32(0x800000) if is_signed else np.uint32(0))
    for by in range(first, last):
        for bx in range(across):
            at = (by * across + bx) * 4
            red_indices = channel_palette(blocks, at, is_signed, np.uint32(1), reds)
            green_indices = channel_palette(blocks, at + 2, is_signed, np.uint32(256), greens)
            for y in range(min(4, height - by * 4)):
                red_row, green_row = red_indices >> np.uint64(12 * y), green_indices >> np.uint64(12 * y)
                for x in range(min(4, width - bx * 4)):
                    shift = np.uint64(3 * x)
                    colour = reds[(red_row >> shift) & np.uint64(7)] | greens[(green_row >> shift) & np.uint64(7)]
                    out[by * 4 + y, bx * 4 + x] = colour | rest
