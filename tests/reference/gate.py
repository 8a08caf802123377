"""A slow, plain second gate and a plain expander curve, written from the meanings of their settings alone."""

import math


def gate_gains(
    levels_db, *, threshold_db, hysteresis_db, attack_ms, hold_ms, release_ms, range_db, invert, sample_rate
):
    """Amplitude of the gain for each level; straight in amplitude going up, straight in dB going down."""
    closed = 0.0 if range_db == 90 else 10 ** (-range_db / 20)
    attack, hold, release = (round(ms * sample_rate / 1000) for ms in (attack_ms, hold_ms, release_ms))
    gain, is_open, last_loud, out = 1.0 if invert else closed, False, -math.inf, []
    for frame, level in enumerate(levels_db):
        if level > threshold_db or (is_open and level >= threshold_db - hysteresis_db):
            is_open, last_loud = True, frame
        elif frame - last_loud > hold:
            is_open = False
        if is_open != invert:
            gain = min(1.0, gain + (1.0 - closed) / attack) if attack else 1.0
        elif range_db > 0:
            db = (20 * math.log10(gain) if gain > 1e-9 else -range_db) - range_db / max(release, 1)
            gain = closed if db <= -range_db + 1e-9 else 10 ** (db / 20)
        out.append(gain)
    return out


def expander_out_db(level_db, *, direction, threshold_db, ratio, knee_db, range_db):
    """Steady level out: each dB past the threshold comes out as `ratio` dB, quadratic inside the knee."""
    past = threshold_db - level_db if direction == "down" else level_db - threshold_db
    if 2 * past <= -knee_db:
        change = 0.0
    elif 2 * abs(past) < knee_db:
        change = (ratio - 1) * (past + knee_db / 2) ** 2 / (2 * knee_db)
    else:
        change = (ratio - 1) * past
    change = min(change, range_db)
    return level_db - change if direction == "down" else level_db + change
