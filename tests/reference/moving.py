"""What moves, the slow plain way: a curve by its formula, frame by frame; a value that follows a key."""

import math

import numpy as np

JUMP_S = 1e-3


def bent(t, bend):
    """f(t) = (exp(6 b t) - 1) / (exp(6 b) - 1), straight for 0."""
    return t if bend == 0 else (math.exp(6 * bend * t) - 1) / (math.exp(6 * bend) - 1)


def beat_values(points, frames, *, rate, tempo=120.0, beats=1.0, offset=0.0):
    """The curve at each of the session's frames 0 .. frames; jumps straight over a millisecond, none at frame 0."""
    ramp = JUMP_S * rate
    per_frame = tempo / 60.0 / rate / beats
    values = np.empty(frames)
    for frame in range(frames):
        p = (frame * per_frame - offset / beats) % 1.0
        at = max(i for i, point in enumerate(points) if point[0] <= p)
        at = min(at, len(points) - 2)
        (a, start, bend), (b, end, _) = points[at], points[at + 1]
        value = start + (end - start) * bent((p - a) / (b - a), bend)
        doubled = [q for i, q in enumerate(points) if i and q[0] == points[i - 1][0] and q[0] <= p]
        jumps = [(q[0], next(first[1] for first in points if first[0] == q[0])) for q in doubled]
        if points[0][1] != points[-1][1]:
            jumps.insert(0, (0.0, points[-1][1]))
        if jumps:
            since = (p - jumps[-1][0]) / per_frame
            if since < ramp and frame - since > 1e-6:
                value = jumps[-1][1] + (value - jumps[-1][1]) * since / ramp
        values[frame] = value
    return values


def key_values(heard, *, rate, floor_db, ceiling_db, attack_ms, hold_ms, release_ms):
    """The value that follows the peaks of a key (channels, frames): one pole up and down, hold before the way back."""
    level_db = 20.0 * np.log10(np.maximum(np.abs(heard).max(axis=0), 1e-6))
    attack, release = (1.0 - math.exp(-1.0 / (ms * 1e-3 * rate)) for ms in (attack_ms, release_ms))
    value, left, values = 0.0, 0, []
    for level in level_db:
        wanted = min(1.0, max(0.0, (level - floor_db) / (ceiling_db - floor_db)))
        if wanted >= value:
            value, left = value + attack * (wanted - value), round(hold_ms * 1e-3 * rate)
        elif left > 0:
            left -= 1
        else:
            value += release * (wanted - value)
        values.append(value)
    return np.array(values)
