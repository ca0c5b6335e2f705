"""The kinds of things that a person edits, each in a folder of its own."""
