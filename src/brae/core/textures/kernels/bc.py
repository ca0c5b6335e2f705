"""BC1 to BC5 blocks (Microsoft, "Texture Block Compression in Direct3D 11", the section of each).

Pictures are uint32 arrays (height, width) of R, G, B, A in that order of bytes; blocks are uint32 words, two
(BC1) or four (BC3) to a block, rows of blocks from the top.
"""

from __future__ import annotations

import numpy as np

from brae.core.textures.kernels.compiled import helper, kernel

U8, U2 = np.uint32(8), np.uint32(2)
OPAQUE = np.uint32(0xFF000000)
BYTE = np.uint32(255)


@helper
def expand565(colour):
    """R, G, B of 8 bits of a 16-bit colour: the high bits are repeated in the low ones."""
    r, g, b = (
        (colour >> np.uint32(11)) & np.uint32(31),
        (colour >> np.uint32(5)) & np.uint32(63),
        colour & np.uint32(31),
    )
    return (r << np.uint32(3)) | (r >> U2), (g << U2) | (g >> np.uint32(4)), (b << np.uint32(3)) | (b >> U2)


@helper
def pack_rgb(r, g, b):
    """One word of three 8-bit channels, alpha zero."""
    return np.uint32(r) | (np.uint32(g) << U8) | (np.uint32(b) << np.uint32(16))


@helper
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


@helper
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


@helper
def single_channel(blocks, at, palette, values):
    """The sixteen values of an alpha block, which BC4 and BC5 use for any channel."""
    low, high = blocks[at], blocks[at + 1]
    alpha_palette(low & BYTE, (low >> U8) & BYTE, palette)
    indices = (np.uint64(high) << np.uint64(16)) | np.uint64(low >> np.uint32(16))
    for k in range(16):
        values[k] = palette[(indices >> np.uint64(3 * k)) & np.uint64(7)]


@kernel
def decode_bc4(first, last, blocks, out):
    """One channel, shown as grey."""
    height, width = out.shape
    across = (width + 3) >> 2
    palette, values = np.empty(8, np.uint32), np.empty(16, np.uint32)
    for by in range(first, last):
        for bx in range(across):
            single_channel(blocks, (by * across + bx) * 2, palette, values)
            for y in range(min(4, height - by * 4)):
                for x in range(min(4, width - bx * 4)):
                    out[by * 4 + y, bx * 4 + x] = values[4 * y + x] * np.uint32(0x10101) | OPAQUE


@kernel
def decode_bc5(first, last, blocks, out):
    """Two channels, shown as red and green."""
    height, width = out.shape
    across = (width + 3) >> 2
    palette, reds, greens = np.empty(8, np.uint32), np.empty(16, np.uint32), np.empty(16, np.uint32)
    for by in range(first, last):
        for bx in range(across):
            at = (by * across + bx) * 4
            single_channel(blocks, at, palette, reds)
            single_channel(blocks, at + 2, palette, greens)
            for y in range(min(4, height - by * 4)):
                for x in range(min(4, width - bx * 4)):
                    k = 4 * y + x
                    out[by * 4 + y, bx * 4 + x] = reds[k] | (greens[k] << U8) | OPAQUE


# ---- encoding -------------------------------------------------------------------------------------------


@helper
def load_block(picture, by, bx, pixels):
    """Sixteen pixels as floats (16 x 4); beyond the picture's edge its last pixels are repeated."""
    height, width = picture.shape
    for y in range(4):
        for x in range(4):
            word = picture[min(by * 4 + y, height - 1), min(bx * 4 + x, width - 1)]
            for channel in range(4):
                pixels[4 * y + x, channel] = np.float32((word >> np.uint32(8 * channel)) & BYTE)


@helper
def principal_axis(pixels, weights, mean, axis):
    """The mean of the weighted colours and the direction in which they spread most (power iteration)."""
    total = np.float32(0)
    mean[:] = 0
    for k in range(16):
        total += weights[k]
        for c in range(3):
            mean[c] += weights[k] * pixels[k, c]
    for c in range(3):
        mean[c] /= max(total, np.float32(1e-6))
    xx = xy = xz = yy = yz = zz = np.float32(0)
    for k in range(16):
        w, r, g, b = weights[k], pixels[k, 0] - mean[0], pixels[k, 1] - mean[1], pixels[k, 2] - mean[2]
        xx += w * r * r
        xy += w * r * g
        xz += w * r * b
        yy += w * g * g
        yz += w * g * b
        zz += w * b * b
    x, y, z = xx, xy, xz
    if yy > xx:
        x, y, z = xy, yy, yz
    if zz > max(xx, yy):
        x, y, z = xz, yz, zz
    for _ in range(6):
        x, y, z = xx * x + xy * y + xz * z, xy * x + yy * y + yz * z, xz * x + yz * y + zz * z
        scale = np.float32(1) / max(abs(x), abs(y), abs(z), np.float32(1e-12))
        x, y, z = x * scale, y * scale, z * scale
    length = np.sqrt(x * x + y * y + z * z) + np.float32(1e-12)
    axis[0], axis[1], axis[2] = x / length, y / length, z / length
    return xx + yy + zz


@helper
def quantise565(r, g, b):
    """The nearest 16-bit colour."""
    qr = np.uint32(min(max(r, np.float32(0)), np.float32(255)) * np.float32(31 / 255) + np.float32(0.5))
    qg = np.uint32(min(max(g, np.float32(0)), np.float32(255)) * np.float32(63 / 255) + np.float32(0.5))
    qb = np.uint32(min(max(b, np.float32(0)), np.float32(255)) * np.float32(31 / 255) + np.float32(0.5))
    return (qr << np.uint32(11)) | (qg << np.uint32(5)) | qb


@helper
def assign(pixels, weights, c0, c1, four, palette, levels):
    """Give each pixel its nearest palette entry; returns the squared error."""
    colour_palette(c0, c1, four, palette)
    error = np.float32(0)
    count = 4 if four else 3
    for k in range(16):
        best, which = np.float32(1e30), 0
        for p in range(count):
            r = pixels[k, 0] - np.float32(palette[p] & BYTE)
            g = pixels[k, 1] - np.float32((palette[p] >> U8) & BYTE)
            b = pixels[k, 2] - np.float32((palette[p] >> np.uint32(16)) & BYTE)
            distance = r * r + g * g + b * b
            if distance < best:
                best, which = distance, p
        levels[k] = which
        error += weights[k] * best
    return error


@helper
def least_squares(pixels, weights, levels, four, mean):
    """End points that fit the pixels best for given indices; returns two quantised colours.

    Index 0 is the first end, 1 the second, the others lie between (thirds, or the half).
    """
    aa = ab = bb = np.float32(0)
    ar = ag = abl = br = bg = bbl = np.float32(0)
    for k in range(16):
        level = levels[k]
        if level == 0:
            t = np.float32(0)
        elif level == 1:
            t = np.float32(1)
        elif not four:
            t = np.float32(0.5)
        else:
            t = np.float32(1 / 3) if level == 2 else np.float32(2 / 3)
        w = weights[k]
        s = np.float32(1) - t
        aa += w * s * s
        ab += w * s * t
        bb += w * t * t
        r, g, b = pixels[k, 0] - mean[0], pixels[k, 1] - mean[1], pixels[k, 2] - mean[2]
        ar += w * s * r
        ag += w * s * g
        abl += w * s * b
        br += w * t * r
        bg += w * t * g
        bbl += w * t * b
    determinant = aa * bb - ab * ab
    if determinant < np.float32(1e-4):
        return quantise565(mean[0], mean[1], mean[2]), quantise565(mean[0], mean[1], mean[2])
    inverse = np.float32(1) / determinant
    first = quantise565(
        (ar * bb - br * ab) * inverse + mean[0],
        (ag * bb - bg * ab) * inverse + mean[1],
        (abl * bb - bbl * ab) * inverse + mean[2],
    )
    second = quantise565(
        (br * aa - ar * ab) * inverse + mean[0],
        (bg * aa - ag * ab) * inverse + mean[1],
        (bbl * aa - abl * ab) * inverse + mean[2],
    )
    return first, second


@helper
def single_colour(pixels, table5, table6):
    """End points of a block of one colour, from tables of the best pairs for each 8-bit value."""
    r, g, b = int(pixels[0, 0]), int(pixels[0, 1]), int(pixels[0, 2])
    c0 = (table5[r, 0] << np.uint32(11)) | (table6[g, 0] << np.uint32(5)) | table5[b, 0]
    c1 = (table5[r, 1] << np.uint32(11)) | (table6[g, 1] << np.uint32(5)) | table5[b, 1]
    return c0, c1


@helper
def fit_colour(pixels, weights, four, table5, table6, palette, levels, best_levels, mean, axis):
    """The best end points found for a block, indices in ``best_levels``."""
    spread = principal_axis(pixels, weights, mean, axis)
    if spread < np.float32(1e-3) and four:
        for c in range(3):
            value = np.float32(int(mean[c] + np.float32(0.5)))
            for k in range(16):
                pixels[k, c] = value
        c0, c1 = single_colour(pixels, table5, table6)
        assign(pixels, weights, c0, c1, True, palette, best_levels)
        return c0, c1
    low, high = np.float32(1e30), np.float32(-1e30)
    for k in range(16):
        if weights[k] > 0:
            t = np.float32(0)
            for c in range(3):
                t += (pixels[k, c] - mean[c]) * axis[c]
            low, high = min(low, t), max(high, t)
    best_error = np.float32(1e30)
    best0 = best1 = np.uint32(0)
    # Starts at the full spread and slightly inside it: the ends are seldom the best fit.
    for start in range(3):
        inset = (high - low) * np.float32(0.045) * np.float32(start)
        a, b = high - inset, low + inset
        c0 = quantise565(mean[0] + a * axis[0], mean[1] + a * axis[1], mean[2] + a * axis[2])
        c1 = quantise565(mean[0] + b * axis[0], mean[1] + b * axis[1], mean[2] + b * axis[2])
        for _ in range(3):
            error = assign(pixels, weights, c0, c1, four, palette, levels)
            if error < best_error:
                best_error, best0, best1 = error, c0, c1
                best_levels[:] = levels
            n0, n1 = least_squares(pixels, weights, levels, four, mean)
            if n0 == c0 and n1 == c1:
                break
            c0, c1 = n0, n1
    return best0, best1


@helper
def colour_words(c0, c1, levels, four, clear):
    """The two words of a colour block; the order of the ends says which mode it is."""
    swap = (c0 < c1) if four else (c0 > c1)
    if swap:
        c0, c1 = c1, c0
    indices = np.uint32(0)
    for k in range(16):
        level = np.uint32(levels[k])
        if clear[k]:
            level = np.uint32(3)
        elif c0 == c1:
            level = np.uint32(0)  # equal ends are three-colour mode, where index 3 would be clear
        elif (swap and level < U2) or (swap and four):
            level = level ^ np.uint32(1)
        indices |= level << np.uint32(2 * k)
    return c0 | (c1 << np.uint32(16)), indices


@kernel
def encode_bc1(first, last, picture, todo, punch_through, table5, table6, out):
    """Encode block rows of ``picture`` into ``out``, where ``todo`` (bool, block rows x columns) says so.

    With ``punch_through`` pixels of alpha below 128 become clear, else every pixel is opaque.
    """
    across = (picture.shape[1] + 3) >> 2
    pixels, weights = np.empty((16, 4), np.float32), np.empty(16, np.float32)
    palette, levels, best = np.empty(4, np.uint32), np.empty(16, np.int64), np.zeros(16, np.int64)
    mean, axis, clear = np.empty(3, np.float32), np.empty(3, np.float32), np.empty(16, np.bool_)
    for by in range(first, last):
        for bx in range(across):
            if not todo[by, bx]:
                continue
            load_block(picture, by, bx, pixels)
            some_clear = False
            for k in range(16):
                clear[k] = punch_through and pixels[k, 3] < np.float32(128)
                some_clear |= clear[k]
                weights[k] = np.float32(0) if clear[k] else np.float32(1)
            c0, c1 = fit_colour(pixels, weights, not some_clear, table5, table6, palette, levels, best, mean, axis)
            at = (by * across + bx) * 2
            out[at], out[at + 1] = colour_words(c0, c1, best, not some_clear, clear)


@helper
def alpha_error(pixels, a0, a1, palette, levels):
    """Give each pixel's alpha its nearest value; returns the squared error."""
    alpha_palette(a0, a1, palette)
    error = np.float32(0)
    for k in range(16):
        best, which = np.float32(1e30), 0
        for p in range(8):
            d = pixels[k, 3] - np.float32(palette[p])
            if d * d < best:
                best, which = d * d, p
        levels[k] = which
        error += best
    return error


@helper
def fit_alpha(pixels, palette, levels, best):
    """The best two alpha values found; eight steps between the extremes, or six with exact 0 and 255."""
    low, high = np.float32(255), np.float32(0)
    inner_low, inner_high = np.float32(255), np.float32(0)
    for k in range(16):
        a = pixels[k, 3]
        low, high = min(low, a), max(high, a)
        if np.float32(0) < a < BYTE:
            inner_low, inner_high = min(inner_low, a), max(inner_high, a)
    best0, best1 = np.uint32(high), np.uint32(low)
    error = alpha_error(pixels, best0, best1, palette, best)
    if error == 0:
        return best0, best1
    # A little inside the extremes the steps often lie better.
    for inset0 in range(3):
        for inset1 in range(3):
            span = (high - low) * np.float32(1 / 28)
            a0 = np.uint32(high - span * np.float32(inset0) + np.float32(0.5))
            a1 = np.uint32(low + span * np.float32(inset1) + np.float32(0.5))
            if a0 > a1:
                trial = alpha_error(pixels, a0, a1, palette, levels)
                if trial < error:
                    error, best0, best1 = trial, a0, a1
                    best[:] = levels
    if (low == 0 or high == 255) and inner_low <= inner_high:
        a0, a1 = np.uint32(inner_low), np.uint32(inner_high)
        trial = alpha_error(pixels, a0, a1, palette, levels)
        if trial < error:
            error, best0, best1 = trial, a0, a1
            best[:] = levels
    return best0, best1


@helper
def pack_channel(pixels, channel, palette, levels, best, out, at):
    """One channel of a block as an alpha block: two words from ``at`` on."""
    for k in range(16):
        pixels[k, 3] = pixels[k, channel]
    a0, a1 = fit_alpha(pixels, palette, levels, best)
    bits = np.uint64(a0) | (np.uint64(a1) << np.uint64(8))
    for k in range(16):
        bits |= np.uint64(best[k]) << np.uint64(16 + 3 * k)
    out[at] = np.uint32(bits & np.uint64(0xFFFFFFFF))
    out[at + 1] = np.uint32(bits >> np.uint64(32))


@helper
def pack_colours(pixels, weights, table5, table6, palette, levels, best, mean, axis, clear, out, at):
    """Four colours of a block: two words from ``at`` on. Pixels of weight 0 cost nothing."""
    visible = np.float32(0)
    for k in range(16):
        visible += weights[k]
    if visible == 0:
        weights[:] = np.float32(1)  # wholly clear: keep what colour there is
    c0, c1 = fit_colour(pixels, weights, True, table5, table6, palette, levels, best, mean, axis)
    out[at], out[at + 1] = colour_words(c0, c1, best, True, clear)


@kernel
def encode_bc3(first, last, picture, todo, punch_through, table5, table6, out):
    """The same for BC3: alpha of eight steps, colour of four; colour under clear pixels costs nothing."""
    across = (picture.shape[1] + 3) >> 2
    pixels, weights = np.empty((16, 4), np.float32), np.empty(16, np.float32)
    palette, levels, best = np.empty(4, np.uint32), np.empty(16, np.int64), np.zeros(16, np.int64)
    alphas, alpha_levels, alpha_best = np.empty(8, np.uint32), np.empty(16, np.int64), np.empty(16, np.int64)
    mean, axis, clear = np.empty(3, np.float32), np.empty(3, np.float32), np.zeros(16, np.bool_)
    for by in range(first, last):
        for bx in range(across):
            if not todo[by, bx]:
                continue
            load_block(picture, by, bx, pixels)
            at = (by * across + bx) * 4
            pack_channel(pixels, 3, alphas, alpha_levels, alpha_best, out, at)
            for k in range(16):
                weights[k] = np.float32(1) if pixels[k, 3] > 0 else np.float32(0)
            pack_colours(pixels, weights, table5, table6, palette, levels, best, mean, axis, clear, out, at + 2)


@kernel
def encode_bc2(first, last, picture, todo, punch_through, table5, table6, out):
    """The same for BC2: alpha to the nearest of sixteen values."""
    across = (picture.shape[1] + 3) >> 2
    pixels, weights = np.empty((16, 4), np.float32), np.empty(16, np.float32)
    palette, levels, best = np.empty(4, np.uint32), np.empty(16, np.int64), np.zeros(16, np.int64)
    mean, axis, clear = np.empty(3, np.float32), np.empty(3, np.float32), np.zeros(16, np.bool_)
    for by in range(first, last):
        for bx in range(across):
            if not todo[by, bx]:
                continue
            load_block(picture, by, bx, pixels)
            at = (by * across + bx) * 4
            bits = np.uint64(0)
            for k in range(16):
                step = np.uint64(pixels[k, 3] * np.float32(15 / 255) + np.float32(0.5))
                bits |= step << np.uint64(4 * k)
                weights[k] = np.float32(1) if step > 0 else np.float32(0)
            out[at] = np.uint32(bits & np.uint64(0xFFFFFFFF))
            out[at + 1] = np.uint32(bits >> np.uint64(32))
            pack_colours(pixels, weights, table5, table6, palette, levels, best, mean, axis, clear, out, at + 2)


@kernel
def encode_bc4(first, last, picture, todo, punch_through, table5, table6, out):
    """One channel: the luma of the colour (ITU-R BT.709), which is the grey of a grey picture."""
    across = (picture.shape[1] + 3) >> 2
    pixels, palette = np.empty((16, 4), np.float32), np.empty(8, np.uint32)
    levels, best = np.empty(16, np.int64), np.empty(16, np.int64)
    for by in range(first, last):
        for bx in range(across):
            if todo[by, bx]:
                load_block(picture, by, bx, pixels)
                for k in range(16):
                    luma = (
                        np.float32(0.2126) * pixels[k, 0]
                        + np.float32(0.7152) * pixels[k, 1]
                        + np.float32(0.0722) * pixels[k, 2]
                    )
                    pixels[k, 0] = np.float32(np.int64(luma + np.float32(0.5)))
                pack_channel(pixels, 0, palette, levels, best, out, (by * across + bx) * 2)


@kernel
def encode_bc5(first, last, picture, todo, punch_through, table5, table6, out):
    """Two channels: red and green."""
    across = (picture.shape[1] + 3) >> 2
    pixels, palette = np.empty((16, 4), np.float32), np.empty(8, np.uint32)
    levels, best = np.empty(16, np.int64), np.empty(16, np.int64)
    for by in range(first, last):
        for bx in range(across):
            if todo[by, bx]:
                load_block(picture, by, bx, pixels)
                at = (by * across + bx) * 4
                pack_channel(pixels, 0, palette, levels, best, out, at)
                pack_channel(pixels, 1, palette, levels, best, out, at + 2)
