"""How kernels are compiled. Numba is slow to import, so only modules of kernels import this.

Compiling is most of the time of a first start, and Numba compiles a function once for each set of argument types.
To it a constant argument is a type of its own, unless the function is registered as below: a step is then compiled
once for all its callers.
"""

from typing import Any

from llvmlite.binding import set_option
from numba import njit
from numba.extending import register_jitable

# Loops over pixels hold loops over lanes, which are vectors already. Unrolling them doubles what is to be compiled
# and gains nothing (measured on all encoders and decoders).
set_option("brae", "-unroll-threshold=220")

_OPTIONS: dict[str, Any] = {"nogil": True, "error_model": "numpy", "fastmath": True, "no_rewrites": True}
_WITHIN: dict[str, Any] = {**_OPTIONS, "no_cpython_wrapper": True, "no_cfunc_wrapper": True}
#: what Python calls; kept on disk together with every step within it
kernel = njit(cache=True, **_OPTIONS)
#: a part of a kernel that only kernels call, so it needs no entry from Python and no place on disk of its own
step = register_jitable(**_WITHIN)
#: tiny parts within loops over lanes, which must vanish before the compiler makes vectors of them
inlined = register_jitable(forceinline=True, **_WITHIN)
#: a short step compiled anew for each set of constant arguments: known rows and counts make it faster
specialised = njit(**_WITHIN)
