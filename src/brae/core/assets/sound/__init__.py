"""Sounds: heard, and told apart; they are not edited yet."""
