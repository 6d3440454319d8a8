"""What the user compares: loudness, spectra, tone change, heat."""
