"""Many takes at once: the same chain, or the same wish, for file after file, on all cores or on many machines."""
