"""Texts: their encoding and line ends are kept, whatever an editor makes of them."""
