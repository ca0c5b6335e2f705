"""Sheets of frames: where each lies, how far an edit's frames moved, and the sequence as one moving file."""
