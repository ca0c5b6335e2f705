"""Files of open formats within any bytes: told by their signs, and by headers that make sense.

``kernels`` finds where a sign stands, ``plain`` and ``streams`` tell from the header and the structure behind it
whether a file begins there and where it ends, ``scan`` goes through a source with both.
"""
