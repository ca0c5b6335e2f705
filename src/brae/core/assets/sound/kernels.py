"""The loops that decode and encode ADPCM, compiled.

Samples are 16 bits, shape (frames, channels); each loop keeps the state that the decoder will have, so that what is
lost does not add up. ``old`` are the original's bytes: where they give the wanted samples no worse than what is
found anew, they stay.
"""

from __future__ import annotations

import numpy as np

from brae.core.compiled import kernel, step


@step
def _clamp(value):
    return min(max(value, np.int64(-32768)), np.int64(32767))


# ---- IMA ----------------------------------------------------------------------------------------------------


@step
def _ima_next(code, value, index, steps, moves):
    """The sample and the step's number after a code."""
    size = steps[index]
    change = size >> 3
    if code & 4:
        change += size
    if code & 2:
        change += size >> 1
    if code & 1:
        change += size >> 2
    value = _clamp(value - change if code & 8 else value + change)
    return value, min(max(index + moves[code & 7], np.int64(0)), np.int64(88))


@step
def _ima_code(wanted, value, size):
    """The code that comes nearest."""
    left = wanted - value
    code = 0
    if left < 0:
        code, left = 8, -left
    if left >= size:
        code |= 4
        left -= size
    if left >= size >> 1:
        code |= 2
        left -= size >> 1
    if left >= size >> 2:
        code |= 1
    return code


#: paths that are followed while a code is looked for, and codes that each of them tries
_PATHS, _TRIED = 2, 3


@step
def _ima_search(wanted, value, index, steps, moves, codes, came, said):
    """The codes for ``wanted`` with the least loss found; what comes after the last, and the loss.

    A code that comes a little less near may leave a step that fits what follows: some paths are followed side by
    side, each tries the nearest code and its neighbours, and the best few go on.
    """
    values, indices, costs = np.zeros(_PATHS, np.int64), np.zeros(_PATHS, np.int64), np.zeros(_PATHS, np.int64)
    new_values, new_indices = np.zeros(_PATHS, np.int64), np.zeros(_PATHS, np.int64)
    new_costs = np.zeros(_PATHS, np.int64)
    values[0], indices[0] = value, index
    paths = 1
    for k in range(len(wanted)):
        found = 0
        for path in range(paths):
            near = _ima_code(wanted[k], values[path], steps[indices[path]])
            for tried in range(_TRIED):
                size = (near & 7) + (0 if tried == 0 else 1 if tried == 1 else -1)
                if size < 0 or size > 7:
                    continue
                code = (near & 8) | size
                value, index = _ima_next(code, values[path], indices[path], steps, moves)
                cost = costs[path] + (value - wanted[k]) * (value - wanted[k])
                if found == _PATHS and cost >= new_costs[found - 1]:
                    continue
                same = False
                for other in range(found):
                    alike = new_values[other] == value and new_indices[other] == index
                    same = same or (alike and new_costs[other] <= cost)
                if same:
                    continue
                # In its place among those that go on, the best first.
                place = min(found, _PATHS - 1)
                while place > 0 and new_costs[place - 1] > cost:
                    new_costs[place], new_values[place] = new_costs[place - 1], new_values[place - 1]
                    new_indices[place] = new_indices[place - 1]
                    came[k, place], said[k, place] = came[k, place - 1], said[k, place - 1]
                    place -= 1
                new_costs[place], new_values[place], new_indices[place] = cost, value, index
                came[k, place], said[k, place] = path, code
                found = min(found + 1, _PATHS)
        paths = found
        for path in range(paths):
            values[path], indices[path], costs[path] = new_values[path], new_indices[path], new_costs[path]
    path = 0
    for k in range(len(wanted) - 1, -1, -1):
        codes[k] = said[k, path]
        path = came[k, path]
    return values[0], indices[0], costs[0]


@kernel
def encode_ima(samples, block, per_block, steps, moves, out):
    frames, channels = samples.shape
    blocks = out.shape[0]
    wanted, codes = np.zeros(per_block - 1, np.int64), np.zeros(per_block - 1, np.int64)
    came, said = np.zeros((per_block - 1, _PATHS), np.uint8), np.zeros((per_block - 1, _PATHS), np.uint8)
    index = np.zeros(channels, np.int64)
    for b in range(blocks):
        first = b * per_block
        for c in range(channels):
            value = np.int64(samples[min(first, frames - 1), c])
            if b == 0 and frames > 1:
                # A step near the first difference: the beginning is not crushed.
                rise = abs(np.int64(samples[1, c]) - value)
                while index[c] < 88 and steps[index[c]] < rise:
                    index[c] += 1
            out[b, 4 * c] = value & 255
            out[b, 4 * c + 1] = (value >> 8) & 255
            out[b, 4 * c + 2] = index[c]
            out[b, 4 * c + 3] = 0
            for k in range(1, per_block):
                wanted[k - 1] = samples[min(first + k, frames - 1), c]
            _, index[c], _ = _ima_search(wanted, value, index[c], steps, moves, codes, came, said)
            for k in range(1, per_block):
                # Eight samples of a channel, then eight of the next, low nibble first.
                group, inside = (k - 1) // 8, (k - 1) % 8
                place = 4 * channels + (group * channels + c) * 4 + inside // 2
                out[b, place] |= codes[k - 1] << (4 * (inside % 2))


@kernel
def decode_ima(data, per_block, steps, moves, out):
    blocks = data.shape[0]
    channels = out.shape[1]
    for b in range(blocks):
        for c in range(channels):
            value = np.int64(data[b, 4 * c]) | np.int64(data[b, 4 * c + 1]) << 8
            if value >= 32768:
                value -= 65536
            index = min(np.int64(data[b, 4 * c + 2]), np.int64(88))
            out[b * per_block, c] = value
            for k in range(1, per_block):
                group, inside = (k - 1) // 8, (k - 1) % 8
                byte = data[b, 4 * channels + (group * channels + c) * 4 + inside // 2]
                code = np.int64(byte >> (4 * (inside % 2))) & 15
                value, index = _ima_next(code, value, index, steps, moves)
                out[b * per_block + k, c] = value


#: codes that are looked for together where a run has no blocks
_WINDOW = 64


@kernel
def encode_ima_run(samples, old, value, index, steps, moves, out):
    """One channel's codes from a state on; a stretch of ``old`` that comes as near stays."""
    wanted, codes = np.zeros(_WINDOW, np.int64), np.zeros(_WINDOW, np.int64)
    came, said = np.zeros((_WINDOW, _PATHS), np.uint8), np.zeros((_WINDOW, _PATHS), np.uint8)
    value, index = np.int64(value), np.int64(index)
    for first in range(0, len(samples), _WINDOW):
        count = min(len(samples) - first, _WINDOW)
        for k in range(count):
            wanted[k] = samples[first + k]
        here, cost = _ima_search(wanted[:count], value, index, steps, moves, codes, came, said), np.int64(-1)
        if first + count <= len(old):
            kept, step, cost = value, index, np.int64(0)
            for k in range(count):
                kept, step = _ima_next(np.int64(old[first + k]), kept, step, steps, moves)
                cost += (kept - wanted[k]) * (kept - wanted[k])
            if cost <= here[2]:
                out[first : first + count] = old[first : first + count]
                value, index = kept, step
                continue
        for k in range(count):
            out[first + k] = codes[k]
        value, index = here[0], here[1]


@kernel
def encode_ima_runs(samples, heard, lost, steps, moves, out, states):
    """Each row's codes behind a state of its own, of whose sample the lowest ``lost`` bits are not stored."""
    count, per = out.shape
    wanted, codes = np.zeros(per, np.int64), np.zeros(per, np.int64)
    came, said = np.zeros((per, _PATHS), np.uint8), np.zeros((per, _PATHS), np.uint8)
    index = np.int64(0)
    for row in range(count):
        first = np.int64(samples[row, 0])
        value = min(first + (1 << lost >> 1), np.int64(32767)) >> lost << lost
        if row == 0 and samples.shape[1] > 1:
            rise = abs(np.int64(samples[0, 1]) - first)
            while index < 88 and steps[index] < rise:
                index += 1
        states[row, 0], states[row, 1] = value, index
        for k in range(per):
            wanted[k] = samples[row, k + heard]
        _, index, _ = _ima_search(wanted, value, index, steps, moves, codes, came, said)
        for k in range(per):
            out[row, k] = codes[k]


@kernel
def decode_ima_runs(codes, values, indices, heard, steps, moves, out):
    for row in range(codes.shape[0]):
        value, index = values[row], indices[row]
        if heard:
            out[row, 0] = value
        for k in range(codes.shape[1]):
            value, index = _ima_next(np.int64(codes[row, k]), value, index, steps, moves)
            out[row, k + heard] = value


# ---- Microsoft ----------------------------------------------------------------------------------------------


@step
def _signed16(low, high):
    value = np.int64(low) | np.int64(high) << 8
    return value - 65536 if value >= 32768 else value


@step
def _ms_next(code, one, two, delta, first, second, moves):
    """The sample and the step after a code of four bits."""
    signed = code - 16 if code >= 8 else code
    value = _clamp((one * first + two * second >> 8) + signed * delta)
    return value, max(moves[code] * delta >> 8, np.int64(16))


@kernel
def decode_ms(data, per_block, pairs, moves, out):
    blocks = data.shape[0]
    channels = out.shape[1]
    for b in range(blocks):
        for c in range(channels):
            pair = min(np.int64(data[b, c]), np.int64(len(pairs) - 1))
            at = channels + 2 * c
            delta = _signed16(data[b, at], data[b, at + 1])
            at += 2 * channels
            one = _signed16(data[b, at], data[b, at + 1])
            at += 2 * channels
            two = _signed16(data[b, at], data[b, at + 1])
            out[b * per_block, c], out[b * per_block + 1, c] = two, one
            for k in range(2, per_block):
                nibble = (k - 2) * channels + c
                byte = np.int64(data[b, 7 * channels + nibble // 2])
                code = byte & 15 if nibble % 2 else byte >> 4
                value, delta = _ms_next(code, one, two, delta, pairs[pair, 0], pairs[pair, 1], moves)
                one, two = value, one
                out[b * per_block + k, c] = value


@step
def _ms_code(wanted, one, two, delta, first, second):
    """The code that comes nearest."""
    left = wanted - (one * first + two * second >> 8)
    half = delta >> 1
    # Divided as floats, which is quicker and the same: neither number has more than 20 bits.
    code = np.int64(np.floor(np.float64(left + half) / np.float64(delta)))
    return min(max(code, np.int64(-8)), np.int64(7)) & 15


@kernel
def encode_ms(samples, per_block, pairs, moves, out):
    frames, channels = samples.shape
    for b in range(out.shape[0]):
        first = b * per_block
        for c in range(channels):
            two = np.int64(samples[min(first, frames - 1), c])
            one = np.int64(samples[min(first + 1, frames - 1), c])
            best, best_pair, best_delta = np.int64(-1), 0, np.int64(16)
            # The two pairs that foretell the samples themselves best.
            least, chosen, second = np.int64(1) << 62, 0, 0
            for pair in range(len(pairs)):
                size = np.int64(0)
                for k in range(2, per_block):
                    at = min(first + k, frames - 1)
                    x, y = np.int64(samples[max(at - 1, 0), c]), np.int64(samples[max(at - 2, 0), c])
                    size += abs(np.int64(samples[at, c]) - (x * pairs[pair, 0] + y * pairs[pair, 1] >> 8))
                if size < least:
                    least, chosen, second = size, pair, chosen
            for pair in (chosen, second):
                # Steps from the size of the first differences on; the better of two.
                size = np.int64(0)
                for k in range(2, min(per_block, 6)):
                    at = min(first + k, frames - 1)
                    x = np.int64(samples[max(at - 1, 0), c])
                    y = np.int64(samples[max(at - 2, 0), c])
                    size += abs(np.int64(samples[at, c]) - (x * pairs[pair, 0] + y * pairs[pair, 1] >> 8))
                for scale in range(2):
                    delta = min(max(size >> (2 + scale), np.int64(16)), np.int64(32767))
                    start = delta
                    x, y, wrong = one, two, np.int64(0)
                    for k in range(2, per_block):
                        wanted = np.int64(samples[min(first + k, frames - 1), c])
                        code = _ms_code(wanted, x, y, delta, pairs[pair, 0], pairs[pair, 1])
                        value, delta = _ms_next(code, x, y, delta, pairs[pair, 0], pairs[pair, 1], moves)
                        x, y = value, x
                        wrong += (value - wanted) * (value - wanted)
                        if best >= 0 and wrong >= best:
                            break
                    if best < 0 or wrong < best:
                        best, best_pair, best_delta = wrong, pair, start
            out[b, c] = best_pair
            delta = best_delta
            at = channels + 2 * c
            out[b, at], out[b, at + 1] = delta & 255, delta >> 8 & 255
            at += 2 * channels
            out[b, at], out[b, at + 1] = one & 255, one >> 8 & 255
            at += 2 * channels
            out[b, at], out[b, at + 1] = two & 255, two >> 8 & 255
            for k in range(2, per_block):
                wanted = np.int64(samples[min(first + k, frames - 1), c])
                code = _ms_code(wanted, one, two, delta, pairs[best_pair, 0], pairs[best_pair, 1])
                value, delta = _ms_next(code, one, two, delta, pairs[best_pair, 0], pairs[best_pair, 1], moves)
                one, two = value, one
                nibble = (k - 2) * channels + c
                out[b, 7 * channels + nibble // 2] |= code if nibble % 2 else code << 4


# ---- described frames -----------------------------------------------------------------------------------------


@step
def _scaled(code, gain):
    """A code of four bits times two to the ``gain``."""
    signed = code - 16 if code >= 8 else code
    return signed << gain if gain >= 0 else signed >> -gain


@step
def _frame_next(code, one, two, gain, first, second, precision, half):
    return _clamp(_scaled(code, gain) + (one * first + two * second + half >> precision))


@step
def _nibble(frame, head, k, low):
    byte = np.int64(frame[head + k // 2])
    return byte >> 4 if (k % 2 == 0) != low else byte & 15


@step
def _play(frame, head, low, gain, first, second, precision, half, state, out):
    """Decode one frame; ``state`` are the two samples before it."""
    one, two = state[0], state[1]
    for k in range(len(out)):
        value = _frame_next(_nibble(frame, head, k, low), one, two, gain, first, second, precision, half)
        one, two = value, one
        out[k] = value
    state[0], state[1] = one, two


@kernel
def decode_frames(data, head, low, gains, filters, precision, half, out):
    """One channel: ``data`` (frames, bytes), each with the gain and the number of the filter that its head says."""
    state = np.zeros(2, np.int64)
    per = out.shape[1]
    values = np.zeros(per, np.int64)
    for f in range(data.shape[0]):
        gain, filter_ = gains[f, 0], gains[f, 1]
        _play(data[f], head, low, gain, filters[filter_, 0], filters[filter_, 1], precision, half, state, values)
        for k in range(per):
            out[f, k] = values[k]


@step
def _write(samples, one, two, gain, first, second, precision, half, most, codes):
    """Codes for samples, and what is lost; ends early where that is more than ``most``."""
    wrong = np.int64(0)
    for k in range(len(samples)):
        wanted = np.int64(samples[k])
        left = wanted - (one * first + two * second + half >> precision)
        if gain > 0:
            code = left + (np.int64(1) << gain - 1) >> gain
        else:
            code = left << -gain
        code = min(max(code, np.int64(-8)), np.int64(7)) & 15
        value = _frame_next(code, one, two, gain, first, second, precision, half)
        wrong += (value - wanted) * (value - wanted)
        if wrong > most:
            break
        codes[k] = code
        one, two = value, one
    return wrong


@kernel
def encode_frames(samples, old, old_gains, head, low, choices, filters, precision, half, out, chosen):
    """One channel: ``samples`` (frames, count) into ``out`` (frames, bytes), without their heads.

    ``choices``: the gains that a head can say, rising. ``chosen`` (frames, 2): the gain and the filter of each,
    -1 where the original's frame stayed.
    """
    count, per = samples.shape
    state = np.zeros(2, np.int64)
    values = np.zeros(per, np.int64)
    codes, best_codes = np.zeros(per, np.int64), np.zeros(per, np.int64)
    for f in range(count):
        one, two = state[0], state[1]
        best, best_gain, best_filter = np.int64(1) << 62, choices[0], 0
        for number in range(len(filters)):
            first, second = filters[number, 0], filters[number, 1]
            # From the samples themselves: about how large the residue is, and so the gain.
            x, y, size = one, two, np.int64(0)
            for k in range(per):
                wanted = np.int64(samples[f, k])
                size = max(size, abs(wanted - (x * first + y * second + half >> precision)))
                x, y = wanted, x
            place = 0
            while place < len(choices) - 1 and _scaled(np.int64(7), choices[place]) < size:
                place += 1
            for near in range(max(place - 2, 0), min(place + 2, len(choices))):
                wrong = _write(samples[f], one, two, choices[near], first, second, precision, half, best, codes)
                if wrong < best:
                    best, best_gain, best_filter = wrong, choices[near], number
                    best_codes[:] = codes
        kept = False
        if f < old.shape[0]:
            gain, number = old_gains[f, 0], old_gains[f, 1]
            _play(old[f], head, low, gain, filters[number, 0], filters[number, 1], precision, half, state, values)
            wrong = np.int64(0)
            for k in range(per):
                wrong += (values[k] - samples[f, k]) * (values[k] - samples[f, k])
            kept = wrong <= best
        if kept:
            out[f] = old[f]
            chosen[f, 0], chosen[f, 1] = -1, -1
            continue
        chosen[f, 0], chosen[f, 1] = best_gain, best_filter
        for k in range(per):
            high = (k % 2 == 0) != low
            out[f, head + k // 2] |= best_codes[k] << 4 if high else best_codes[k]
        state[0], state[1] = one, two
        _play(
            out[f], head, low, best_gain, filters[best_filter, 0], filters[best_filter, 1], precision, half,
            state, values,
        )  # fmt: skip
