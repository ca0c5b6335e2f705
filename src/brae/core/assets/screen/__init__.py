"""The kind of menu screens: a picture, and the rectangles on it that act."""
