"""The processing: stages, compiled kernels, oversampling.  No Qt, no files, no devices."""
