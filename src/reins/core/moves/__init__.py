"""Reins: what moves a setting while the sound runs, by the beat, by a drawn line or by a key."""
