"""Voice tracks: words and phonemes with their times, in files of their own."""
