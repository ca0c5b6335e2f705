"""Models: read and written by layouts, out as glTF and OBJ, and back."""
