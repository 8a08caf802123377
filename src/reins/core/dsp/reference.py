"""How loud the whole of a voice is, for what is measured against it: the vowels, with pauses and esses left out.

The level is the mean square over hops of 10 ms. A hop counts when the watched band makes less than half of it, when it
is no more than 20 dB quieter than what has counted of late, and 45 dB than the loudest that ever did, so that the room
between two lines does not, however long it is, and when it does not fall, by 1.5 dB in 100 ms, as what rings out does;
of those that count, those 10 dB under their mean are left out once more. Where fewer than ten count the reference stays
as it was; as long as there were never so many, it is what counts, and where nothing has counted yet, the level of all.

Looking ahead, the mean is over 300 ms either side of a moment, which comes so much later; else over the last 300 ms
that counted, however long ago.
"""

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import kernel

Array = npt.NDArray[np.float64]
HOP_MS = 10.0
REACH_HOPS = 30
FLOOR = 1e-12  # of a mean square: silence, whatever a take's level is
ROOM = 10.0**-4.5  # what is so much quieter than the loudest is no line, however long it lasts
QUIET, LOW = 10.0**-2.0, 10.0**-1.0
RECENT_K = 1.0 / 50.0  # a hop that counts moves what has counted of late by so much
FORGET_HOPS = 500  # of sound of which none counts: a line so much quieter is the new measure
LEAST_HOPS = 10
FALLING, FALL_HOPS = 10.0**-0.15, 10
WHOLE, BAND, COUNT, BEFORE, NOW, RECENT, MISSED, PLACE, ALL, KNOWN, LOUDEST, PAST = range(12)
STATE = PAST + FALL_HOPS  # from PAST on the levels of the hops before, the oldest first


@kernel("UniTuple(f8, 2)(f8[::1])")
def _gated_mean(hops):
    """Mean of the hops that count (others are 0), those far below their mean left out, and how many are left; 0, 0 when
    none counts.
    """
    mean, left = 0.0, 0.0
    for _attempt in range(2):
        least = LOW * mean
        total, count = 0.0, 0
        for i in range(hops.size):
            if hops[i] > 0.0 and hops[i] >= least:
                total += hops[i]
                count += 1
        if count == 0:
            return 0.0, 0.0
        mean, left = total / count, float(count)
    return mean, left


@kernel("void(f8[:,::1], f8[:,::1], f8[:,::1], i8, b1, f8[:,::1], f8[:,::1], f8[:,::1])")
def _over_reference(late, part, whole, hop_frames, ahead, state, hops, out):
    """out = late over the reference, channel by channel; part and whole are what is heard now, late is part as much
    later as the reference is. state (channels, STATE) and hops (channels, ring) are carried.
    """
    for channel in range(part.shape[0]):
        s, ring = state[channel], hops[channel]
        for i in range(part.shape[1]):
            x, y = whole[channel, i], part[channel, i]
            s[WHOLE] += x * x
            s[BAND] += y * y
            s[COUNT] += 1.0
            way = s[COUNT] / hop_frames
            square = s[BEFORE] + (s[NOW] - s[BEFORE]) * way
            if s[KNOWN] == 0.0 and s[NOW] == 0.0:  # nothing has counted yet
                square = max(s[WHOLE] / s[COUNT], s[ALL])
            out[channel, i] = late[channel, i] / np.sqrt(max(square, FLOOR))
            if s[COUNT] < hop_frames:
                continue
            level, band = s[WHOLE] / hop_frames, s[BAND] / hop_frames
            s[WHOLE], s[BAND], s[COUNT] = 0.0, 0.0, 0.0
            s[ALL] = level if s[ALL] == 0.0 else s[ALL] + (level - s[ALL]) / REACH_HOPS
            voiced = level > max(FLOOR, ROOM * s[LOUDEST]) and band < 0.5 * level
            falls = level < FALLING * s[PAST]
            for k in range(FALL_HOPS - 1):
                s[PAST + k] = s[PAST + k + 1]
            s[PAST + FALL_HOPS - 1] = level
            counts = voiced and not falls and level >= QUIET * s[RECENT]
            if counts:
                s[RECENT] = level if s[RECENT] == 0.0 else s[RECENT] + (level - s[RECENT]) * RECENT_K
                s[LOUDEST] = max(s[LOUDEST], s[RECENT])
                s[MISSED] = 0.0
            elif voiced:
                s[MISSED] += 1.0
                if s[MISSED] >= FORGET_HOPS:
                    s[MISSED], s[RECENT] = 0.0, 0.0
            if counts or ahead:
                ring[np.int64(s[PLACE])] = level if counts else 0.0
                s[PLACE] = (s[PLACE] + 1.0) % ring.size
            mean, count = _gated_mean(ring)
            s[BEFORE] = s[NOW]
            if count >= LEAST_HOPS or (count > 0.0 and s[KNOWN] == 0.0):
                s[BEFORE] = s[NOW] if s[NOW] > 0.0 else mean
                s[NOW] = mean
                if count >= LEAST_HOPS:
                    s[KNOWN] = 1.0


class Reference:
    """Measures a band against the whole it is a part of, lane by lane."""

    carried = ("_state", "_hops")

    def __init__(self, lanes: int, sample_rate: int, *, ahead: bool) -> None:
        self._hop_frames, self._ahead = hop_frames(sample_rate), ahead
        self._state = np.zeros((lanes, STATE))
        self._hops = np.zeros((lanes, 2 * REACH_HOPS + 1 if ahead else REACH_HOPS))

    def over(self, late: Array, part: Array, whole: Array) -> Array:
        """`late` over the reference, all (lanes, frames); see _over_reference."""
        out = np.empty_like(part)
        _over_reference(late, part, whole, self._hop_frames, self._ahead, self._state, self._hops, out)
        return out


def hop_frames(sample_rate: int) -> int:
    """Frames of a hop, an even number."""
    return 2 * round(HOP_MS * 1e-3 * sample_rate / 2.0)


def ahead_frames(sample_rate: int) -> int:
    """How much later the reference of a moment is known when it is measured from both sides."""
    return (2 * REACH_HOPS + 3) * hop_frames(sample_rate) // 2
