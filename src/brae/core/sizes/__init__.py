"""One picture in several sizes, each made like its siblings: their mask, their frame, their shading."""
