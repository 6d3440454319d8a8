"""What the user compares: loudness, spectra, tone change, what was added."""
