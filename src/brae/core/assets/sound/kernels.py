"""The loop that encodes IMA ADPCM, compiled."""

from __future__ import annotations

import numpy as np

from brae.core.compiled import kernel


@kernel
def encode_ima(samples, block, per_block, steps, moves, out):
    frames, channels = samples.shape
    blocks = out.shape[0]
    index = np.zeros(channels, np.int64)
    for b in range(blocks):
        first = b * per_block
        for c in range(channels):
            value = np.int64(samples[min(first, frames - 1), c])
            if b == 0 and frames > 1:
                # A step near the first difference: the beginning is not crushed.
                wanted = abs(np.int64(samples[1, c]) - value)
                while index[c] < 88 and steps[index[c]] < wanted:
                    index[c] += 1
            out[b, 4 * c] = value & 255
            out[b, 4 * c + 1] = (value >> 8) & 255
            out[b, 4 * c + 2] = index[c]
            out[b, 4 * c + 3] = 0
            for k in range(1, per_block):
                at = min(first + k, frames - 1)
                step = steps[index[c]]
                difference = np.int64(samples[at, c]) - value
                sign = 8 if difference < 0 else 0
                left = -difference if sign else difference
                code, change = 0, step >> 3
                if left >= step:
                    code |= 4
                    left -= step
                    change += step
                if left >= step >> 1:
                    code |= 2
                    left -= step >> 1
                    change += step >> 1
                if left >= step >> 2:
                    code |= 1
                    change += step >> 2
                value = value - change if sign else value + change
                value = min(max(value, np.int64(-32768)), np.int64(32767))
                index[c] = min(max(index[c] + moves[code], np.int64(0)), np.int64(88))
                # Eight samples of a channel, then eight of the next, low nibble first.
                group, inside = (k - 1) // 8, (k - 1) % 8
                place = 4 * channels + (group * channels + c) * 4 + inside // 2
                out[b, place] |= (code | sign) << (4 * (inside % 2))
