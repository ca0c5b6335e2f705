"""How kernels are compiled. Numba is slow to import, so only the kernels themselves import this."""

from typing import Any

from numba import njit

_OPTIONS: dict[str, Any] = {"nogil": True, "error_model": "numpy", "fastmath": True}
_WITHIN: dict[str, Any] = {**_OPTIONS, "no_cpython_wrapper": True, "no_cfunc_wrapper": True}
#: what Python calls; kept on disk together with every step and helper within it
kernel = njit(cache=True, **_OPTIONS)
#: small parts of one block's work, which LLVM inlines where it pays
helper = njit(inline="never", cache=True, **_OPTIONS)
#: a part of a kernel that only kernels call, so it needs no entry from Python and no place on disk of its own
step = njit(**_WITHIN)
#: tiny parts within loops over lanes, which must vanish before the compiler makes vectors of them
inlined = njit(forceinline=True, **_WITHIN)
