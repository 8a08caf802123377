"""What a setting is and how it is said: models, descriptions, usual settings, paths, words, drawn points."""
