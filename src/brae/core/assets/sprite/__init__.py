"""The kind of sprites: frames, where they stand, how long they are shown, and in which order."""
