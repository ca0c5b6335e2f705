"""Sounds: heard, seen, and edited with the codec, rate, channels, loops and chunks of the original."""
