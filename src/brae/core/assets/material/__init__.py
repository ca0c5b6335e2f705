"""Materials: what a surface looks like, by the names of its textures, colours and numbers."""
