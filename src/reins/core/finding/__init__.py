"""What is found in a take: hits, phrases, sibilants, tempo. Named methods from the literature; nothing here changes."""
