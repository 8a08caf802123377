"""Gains that move: from dB to amplitudes, for every frame."""

import math

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import brief, inlined, kernel
from reins.core.dsp.decibels import db_to_amplitude

Array = npt.NDArray[np.float64]
Gain = float | Array  # one that stands, or one for each frame
CHUNK = 1024  # frames that stay at hand between the passes over them


@kernel("void(f8[::1], f8[::1], f8[::1])")
def _to_lin(db, work, out):
    db_to_amplitude(db, out, out.view(np.int64), work, work.view(np.int64), db.size)


@inlined
def _amplitudes(db, start, count, work, out):
    """out = amplitudes of some of the levels in dB, of which there may be one for all."""
    if db.size == 1:
        out[:count] = 10.0 ** (db[0] / 20.0)
    else:
        db_to_amplitude(db[start:], out, out.view(np.int64), work, work.view(np.int64), count)


@inlined
def _parts(pct, start, count, out):
    """out = some of the percentages, of which there may be one for all, as parts of 1."""
    if pct.size == 1:
        out[:count] = 0.01 * pct[0]
    else:
        given = pct[start:]
        for i in range(count):
            out[i] = 0.01 * given[i]


@kernel("void(f8[::1], f8[::1], f8[::1], f8[::1], f8[:,::1])")
def _shares(mix_pct, output_db, wet_db, work, out):
    for start in range(0, out.shape[1], CHUNK):
        count = min(CHUNK, out.shape[1] - start)
        output, dry, wet = out[0, start:], out[1, start:], out[2, start:]
        _amplitudes(output_db, start, count, work, output)
        _amplitudes(wet_db, start, count, work, wet)
        _parts(mix_pct, start, count, dry)
        for i in range(count):
            dry[i], wet[i] = 1.0 - dry[i], dry[i] * wet[i]


def shares(frames: int, *, mix_pct: Gain = 100.0, output_db: Gain = 0.0, wet_db: Gain = 0.0) -> Array:
    """(3, frames): the gain of all that leaves, that of the source in it and that of what was made of it, where each
    is a number or moves (frames,).
    """
    out = np.empty((3, frames))
    _shares(_row(mix_pct), _row(output_db), _row(wet_db), np.empty(CHUNK), out)
    return out


def _row(gain: Gain) -> Array:
    return gain if isinstance(gain, np.ndarray) else np.array([gain])


@kernel("void(f8[:,::1], f8[:,::1], f8[::1], f8[::1], f8[:,::1], f8[:,::1])")
def _blend(source, made, mix_pct, output_db, work, out):
    alone = mix_pct.size == 1 and mix_pct[0] == 100.0
    for start in range(0, out.shape[1], CHUNK):
        count = min(CHUNK, out.shape[1] - start)
        output, mix = work[1], work[2]
        _amplitudes(output_db, start, count, work[0], output)
        if alone:
            for channel in range(out.shape[0]):
                after, result = made[channel, start:], out[channel, start:]
                for i in range(count):
                    result[i] = output[i] * after[i]
            continue
        _parts(mix_pct, start, count, mix)
        for channel in range(out.shape[0]):
            before, after, result = source[channel, start:], made[channel, start:], out[channel, start:]
            for i in range(count):
                result[i] = output[i] * ((1.0 - mix[i]) * before[i] + mix[i] * after[i])


def blend(source: Array, made: Array, mix_pct: Gain, output_db: Gain) -> Array:
    """made mixed with source (channels, frames) and levelled, where one of the two or both move."""
    out = np.empty_like(made)
    _blend(
        np.ascontiguousarray(source), np.ascontiguousarray(made), _row(mix_pct), _row(output_db),
        np.empty((3, CHUNK)), out,
    )  # fmt: skip
    return out


@kernel("void(f8[:,::1], f8[:,::1], f8[::1], f8[::1], f8[:,::1], f8[:,::1])")
def _join(source, added, mix_pct, output_db, work, out):
    for start in range(0, out.shape[1], CHUNK):
        count = min(CHUNK, out.shape[1] - start)
        output, mix = work[1], work[2]
        _amplitudes(output_db, start, count, work[0], output)
        _parts(mix_pct, start, count, mix)
        for channel in range(out.shape[0]):
            before, more, result = source[channel, start:], added[channel, start:], out[channel, start:]
            for i in range(count):
                result[i] = output[i] * (before[i] + mix[i] * more[i])


def join(source: Array, added: Array, mix_pct: Gain, output_db: Gain) -> Array:
    """source with so much of what is added to it (channels, frames), levelled."""
    out = np.empty_like(added)
    _join(source, added, _row(mix_pct), _row(output_db), np.empty((3, CHUNK)), out)
    return out


@kernel("void(f8[:,::1], f8[:,::1], f8)")
def tie_alike(one, other, link):
    """Bring magnitudes of two channels (bands, frames) up towards the louder one's, by so much of the way in dB."""
    for band in range(one.shape[0]):
        for i in range(one.shape[1]):
            a, b = one[band, i], other[band, i]
            if a < b:
                one[band, i] = max(a, 1e-9) ** (1.0 - link) * max(b, 1e-9) ** link
            elif b < a:
                other[band, i] = max(b, 1e-9) ** (1.0 - link) * max(a, 1e-9) ** link


@brief("void(f8[:,::1], f8[::1], f8[:,::1])")
def split_sides(sound, middle, sides):
    """Middle (frames,) and sides (1, frames) of a stereo sound (2, frames)."""
    left, right = sound[0], sound[1]
    for i in range(middle.size):
        middle[i], sides[0, i] = 0.5 * (left[i] + right[i]), 0.5 * (left[i] - right[i])


@brief("void(f8[::1], f8[:,::1], f8[::1], f8, f8[:,::1])")
def widen(middle, sides, factor, gain, out):
    """out (2, frames) = middle and so many times the sides, factor (frames,) or (1,), as left and right, at a gain."""
    left, right, moves = out[0], out[1], factor.size > 1
    for i in range(middle.size):
        wide = sides[0, i] * (factor[i] if moves else factor[0])
        left[i], right[i] = (middle[i] + wide) * gain, (middle[i] - wide) * gain


@kernel("void(f8[::1], f8, f8[::1], f8[::1], f8[::1])")
def _down_to_silence(db, silent_db, work, out, told):
    db_to_amplitude(db, out, out.view(np.int64), work, work.view(np.int64), db.size)
    for i in range(db.size):
        silent = db[i] <= silent_db
        out[i] = 0.0 if silent else out[i]
        told[i] = -120.0 if silent else db[i]


def down_to_silence(db: Array, silent_db: float) -> tuple[Array, Array]:
    """Amplitudes of levels in dB (frames,) of which silent_db and less is silence, and the levels, silence as -120."""
    out, told = np.empty_like(db), np.empty_like(db)
    _down_to_silence(db, silent_db, np.empty_like(db), out, told)
    return out, told


def to_lin(db: Array) -> Array:
    """Amplitudes of levels in dB (frames,)."""
    out = np.empty_like(db)
    _to_lin(db, np.empty_like(db), out)
    return out


# Taylor's series of sine and cosine in the square of the angle, to the last bit within 45 degrees of the middle: passes
# that vectorise, and without divisions.
S3, S5, S7, S9, S11, S13, S15 = (-1.0 / 6, 1.0 / 120, -1.0 / 5040, 1.0 / 362880, -1.0 / 39916800, 1.0 / 6227020800,
                                 -1.0 / 1307674368000)  # fmt: skip
C2, C4, C6, C8, C10, C12, C14, C16 = (-1.0 / 2, 1.0 / 24, -1.0 / 720, 1.0 / 40320, -1.0 / 3628800, 1.0 / 479001600,
                                      -1.0 / 87178291200, 1.0 / 20922789888000)  # fmt: skip


@kernel("void(f8[::1], b1, f8[:,::1])")
def _turn(pan_pct, stereo, out):
    left, right = out[0], out[1]
    loud = 1.0 if stereo else math.sqrt(0.5)
    for i in range(pan_pct.size):
        y = pan_pct[i] * (math.pi / 400.0)
        z = y * y
        sine = y * (1.0 + z * (S3 + z * (S5 + z * (S7 + z * (S9 + z * (S11 + z * (S13 + z * S15)))))))
        cosine = 1.0 + z * (C2 + z * (C4 + z * (C6 + z * (C8 + z * (C10 + z * (C12 + z * (C14 + z * C16)))))))
        left[i], right[i] = loud * (cosine - sine), loud * (cosine + sine)
    if stereo:
        for i in range(pan_pct.size):
            left[i] = left[i] if left[i] < 1.0 else 1.0
            right[i] = right[i] if right[i] < 1.0 else 1.0


def pan_gains(pan_pct: float | Array, channels: int) -> Array:
    """Left and right gain (2,) of a pan position from -100 to 100 %, or (2, frames) of positions: a mono sound travels
    at equal power; of a stereo sound the far side goes down and the near one stays as it is.
    """
    positions = np.atleast_1d(np.asarray(pan_pct, np.float64))
    sides = np.empty((2, positions.size))
    _turn(positions, channels == 2, sides)
    return sides if np.ndim(pan_pct) else sides[:, 0]
