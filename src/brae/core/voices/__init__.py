"""What is said in a sound, and when: words and phonemes with their times."""
