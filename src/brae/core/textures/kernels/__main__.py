"""``python -m brae.core.textures.kernels`` compiles every kernel into the cache."""

import time

from brae.core.textures.kernels import warm

started = time.perf_counter()
warm()
print(f"kernels ready in {time.perf_counter() - started:.1f} s")
