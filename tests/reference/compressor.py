"""A slow, plain second compressor, sample by sample, written from the paper and the meanings of the settings.

Giannoulis, Massberg, Reiss, J. Audio Eng. Soc. 60(6), 2012: eq. (4) static curve, eq. (17) branching one pole.
"""

import math


def static_curve_db(level_db, *, threshold_db, ratio, knee_db):
    """Eq. (4): output level for an input level."""
    over = level_db - threshold_db
    if 2 * over < -knee_db:
        return level_db
    if 2 * abs(over) <= knee_db and knee_db > 0:
        return level_db + (1 / ratio - 1) * (over + knee_db / 2) ** 2 / (2 * knee_db)
    return threshold_db + over / ratio


def gains_db(levels_db, *, threshold_db, ratio, knee_db, attack_ms, release_ms, hold_ms, sample_rate):
    """Gain in dB for each level in dB."""
    gain, wait, out = 0.0, 0, []
    for level in levels_db:
        target = static_curve_db(level, threshold_db=threshold_db, ratio=ratio, knee_db=knee_db) - level
        if target <= gain:
            gain += (target - gain) * coefficient(attack_ms, sample_rate)
            wait = round(hold_ms * sample_rate / 1000)
        elif wait > 0:
            wait -= 1
        else:
            gain += (target - gain) * coefficient(release_ms, sample_rate)
        out.append(gain)
    return out


def coefficient(time_ms, sample_rate):
    """Share of the way per sample: 1 - 1/e after time_ms."""
    return 1 - math.exp(-1000 / (time_ms * sample_rate)) if time_ms else 1.0
