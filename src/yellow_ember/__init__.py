"""Yellow Ember: harmonic colour for tracks and buses, judged at equal loudness."""

__version__ = "0.1.0"
