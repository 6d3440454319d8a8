"""What one may choose of rates, oversampling and files; apart from what does the work, which takes long to load."""

RATES = (44100, 48000, 88200, 96000)
FACTORS = (1, 2, 4, 8, 16)
"""How many times its own rate a stage may run at."""
FORMATS = {"wav": "WAV", "flac": "FLAC", "opus": "OGG"}
"""Endings of names, and what libsndfile calls them."""
DTYPES = {"pcm16": "PCM_16", "pcm24": "PCM_24", "float32": "FLOAT"}
