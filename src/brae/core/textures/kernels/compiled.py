"""How kernels are compiled. Numba is slow to import, so only the kernels themselves import this."""

from numba import njit

#: how every kernel is compiled; small helpers are inlined by LLVM
kernel = njit(cache=True, nogil=True, error_model="numpy", fastmath=True)
helper = njit(nogil=True, error_model="numpy", fastmath=True, inline="never", cache=True)
