"""Effects as plain functions over stereo arrays, shape (2, samples)."""
