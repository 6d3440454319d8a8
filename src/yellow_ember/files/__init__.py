"""Audio files in and out, resampling on import, caches."""
