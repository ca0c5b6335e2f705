"""What puts a sound right, in the order in which it is applied."""

REMEDIES = {
    "offset": "Take the constant offset away",
    "start": "Cut the silence at the start",
    "length": "Make it as long as the original, with a short fade",
    "loudness": "Bring it to the original's loudness",
    "seam": "Blend the end of the loop into its beginning",
}
