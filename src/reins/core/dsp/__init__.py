"""Kernels and the meters built on them: detectors, curves, ballistics, filters, loudness."""
