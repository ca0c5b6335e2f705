"""How BC6H and BC7 divide a block: subsets, anchors and interpolation weights.

Source: Microsoft, "BC7 Format Mode Reference" and "BC6H Format"; Khronos Data Format Specification 1.3, tables
"Partition table for 2-subset / 3-subset BPTC" and the anchor tables beside them.
"""

from __future__ import annotations

import numpy as np

# One number a partition: bit k (or the two bits from 2k on) is the subset of pixel k, rows from the top.
_TWO = """
cccc 8888 eeee ecc8 c880 feec fec8 ec80 c800 ffec fe80 e800 ffe8 ff00 fff0 f000
f710 008e 7100 08ce 008c 7310 3100 8cce 088c 3110 6666 366c 17e8 0ff0 718e 399c
aaaa f0f0 5a5a 33cc 3c3c 55aa 9696 a55a 73ce 13c8 324c 3bdc 6996 c33c 9966 0660
0272 04e4 4e40 2720 c936 936c 39c6 639c 9336 9cc6 817e e718 ccf0 0fcc 7744 ee22
"""
_THREE = """
aa685050 6a5a5040 5a5a4200 5450a0a8 a5a50000 a0a05050 5555a0a0 5a5a5050
aa550000 aa555500 aaaa5500 90909090 94949494 a4a4a4a4 a9a59450 2a0a4250
a5945040 0a425054 a5a5a500 55a0a0a0 a8a85454 6a6a4040 a4a45000 1a1a0500
0050a4a4 aaa59090 14696914 69691400 a08585a0 aa821414 50a4a450 6a5a0200
a9a58000 5090a0a8 a8a09050 24242424 00aa5500 24924924 24499224 50a50a50
500aa550 aaaa4444 66660000 a5a0a5a0 50a050a0 69286928 44aaaa44 66666600
aa444444 54a854a8 95809580 96969600 a85454a8 80959580 aa141414 96960000
aaaa1414 a05050a0 a0a5a5a0 96000000 40804080 a9a8a9a8 aaaaaa44 2a4a5254
"""
# The pixels whose index loses its highest bit, beside pixel 0: of two subsets the second's, of three the others'.
_ANCHOR_TWO = "fffffffffffffffff282288f28228822ff6828ff28222ff66268ff22fffff22f"
_ANCHOR_THREE = (
    "33ff83ff88666533338f336a588685ff8f356a8ff3f5ffff3f55585a5a8dfc33",
    "f883ff38fffffff8f8f3f8f83f6affa8f3faa89a6f8f3668f3ffffffffff3ff8",
)


def _subsets(text: str, bits: int) -> np.ndarray:
    numbers = np.array([int(number, 16) for number in text.split()], np.uint64)[:, None]
    return ((numbers >> (np.arange(16, dtype=np.uint64) * bits)) & ((1 << bits) - 1)).astype(np.uint8)


#: the subset of each pixel, by number of subsets, partition and pixel (4 x 64 x 16)
SUBSETS = np.zeros((4, 64, 16), np.uint8)
SUBSETS[2], SUBSETS[3] = _subsets(_TWO, 1), _subsets(_THREE, 2)
#: the anchor pixel of each subset, by number of subsets and partition (4 x 64 x 3)
ANCHORS = np.zeros((4, 64, 3), np.uint8)
ANCHORS[2, :, 1] = [int(digit, 16) for digit in _ANCHOR_TWO]
for _subset, _digits in enumerate(_ANCHOR_THREE, 1):
    ANCHORS[3, :, _subset] = [int(digit, 16) for digit in _digits]
#: how many bits a pixel's index has less than the others (1 at anchors)
SHORTER = np.zeros((4, 64, 16), np.uint8)
for _count in (1, 2, 3):
    for _subset in range(_count):
        SHORTER[_count, np.arange(64), ANCHORS[_count, :, _subset]] = 1
#: weights of 64 by bits of an index (5 x 16)
WEIGHTS = np.zeros((5, 16), np.uint32)
WEIGHTS[2, :4] = [0, 21, 43, 64]
WEIGHTS[3, :8] = [0, 9, 18, 27, 37, 46, 55, 64]
WEIGHTS[4] = [0, 4, 9, 13, 17, 21, 26, 30, 34, 38, 43, 47, 51, 55, 60, 64]
