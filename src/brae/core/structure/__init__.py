"""Find the structure of an unknown archive: layouts proposed from the bytes alone, each opened and proved.

``places`` finds columns of offsets and sizes, ``names`` what points to names, ``packing`` how members are packed,
``header`` what the numbers before the table mean; ``propose`` turns it all into layouts. ``simple`` knows the two
kinds of file that have no table: chunks, and one packed stream.
"""

from brae.core.structure.propose import Follow, Proposal, companion_pattern, propose

__all__ = ["Follow", "Proposal", "companion_pattern", "propose"]
