"""Reins: shape the dynamics of recorded takes by ear and by eye, over the whole take."""
