"""The demo session as a mix: it sounds like a band, and what is shipped for whole mixes and esses finds work in it."""

import numpy as np
import pytest
import scipy.signal

from reins.core.chainfile import parse_entry, parse_settings
from reins.core.dsp.gains import pan_gains
from reins.core.dsp.loudness import LoudnessMeter
from reins.core.engine.chain import Chain
from reins.core.processors.oversampling import fastest_ms
from reins.core.starting_points import STARTING_POINTS, find_starting_point
from reins.core.units import db_to_lin
from reins.demo import voices
from reins.demo.build import make_parts
from reins.demo.score import BAR_S, CHORUS, RATE, VERSE

SONG = slice(round(2 * BAR_S * RATE), round(14 * BAR_S * RATE))


@pytest.fixture(scope="module")
def placed():
    """Each part after fader and pan, by name."""
    return {
        part.name: part.samples
        * np.array(pan_gains(part.pan_pct, len(part.samples)))[:, None]
        * db_to_lin(part.fader_db)
        for part in make_parts()
    }


@pytest.fixture(scope="module")
def mix(placed):
    return np.sum(list(placed.values()), axis=0)


def lufs(sound):
    meter = LoudnessMeter(sample_rate=RATE)
    meter.feed(np.ascontiguousarray(sound))
    return meter.integrated_lufs()


def power(sound):
    hz, each = scipy.signal.welch(sound, RATE, nperseg=8192)
    return hz, np.atleast_2d(each).sum(axis=0)


def centre_hz(sound):
    hz, each = power(sound)
    return (hz * each).sum() / each.sum()


def test_it_is_as_loud_wide_and_tilted_as_a_mix(mix):
    left, right = mix[:, SONG]
    assert -20 < lufs(mix) < -16 and np.abs(mix).max() < 1
    assert 0.6 < (left @ right) / np.sqrt((left @ left) * (right @ right)) < 0.85
    hz, each = power(mix[:, SONG])
    middles = 1000 * 2 ** (np.arange(-12, 12) / 3)
    levels = [10 * np.log10(each[(hz >= f * 2 ** (-1 / 6)) & (hz < f * 2 ** (1 / 6))].mean()) for f in middles]
    assert -5 < np.polyfit(np.log2(middles), levels, 1)[0] < -3


def test_every_part_lies_where_such_an_instrument_lies(placed):
    assert 7500 < centre_hz(placed["Hats"]) < 10500
    assert 2000 < centre_hz(placed["Snare"]) < 3000
    for side in ("L", "R"):
        guitar = placed[f"Guitar {side}"]
        hz, each = power(guitar)
        assert 400 < centre_hz(guitar) < 620
        assert 10 * np.log10(each[(hz > 80) & (hz < 500)].sum() / each.sum()) > -3
    voice = lufs(placed["Singer"])
    assert 0 < voice - lufs(placed["Snare"]) < 6 and 4 < voice - lufs(placed["Hats"]) < 12


def test_the_guitars_cover_the_voice_in_verse_and_chorus(placed):
    band = scipy.signal.butter(4, [2000, 4000], "bandpass", fs=RATE, output="sos")
    guitars, voice = (
        scipy.signal.sosfilt(band, sound) for sound in (placed["Guitar L"] + placed["Guitar R"], placed["Singer"])
    )
    for bars in (VERSE, CHORUS):
        part = slice(round(bars[0] * BAR_S * RATE), round((bars[-1] + 1) * BAR_S * RATE))
        assert (guitars[:, part] ** 2).sum() > (voice[:, part] ** 2).sum()


def gains_of(point, sound, **how):
    """By name the gains that a starting point moves by, frame by frame of a sound."""
    chain = Chain(
        [parse_entry({"type": point.type, "settings": point.settings, "id": "p"}, "x")], channels=len(sound),
        sample_rate=RATE, **how,
    )  # fmt: skip
    late = chain.latency_frames
    chain.process(np.pad(sound, ((0, 0), (0, late))))
    return {name: gain_db[late:] for name, gain_db in chain.gains()[0][1].items()}


def gain_of(point, sound, **how):
    return gains_of(point, sound, **how)["gain_db"]


def test_the_whole_mix_is_held_by_one_or_two_db(mix):
    gain_db = gain_of(find_starting_point("compressor", "Whole mix, one or two dB"), mix[:, SONG])
    assert -2.0 < np.median(gain_db[gain_db <= -0.5]) < -1.0 and (gain_db <= -0.5).mean() > 0.5


def test_hot_esses_are_held_by_four_to_six_db():
    singer = voices.make_singer()[:, : round(30 * RATE)]
    gain_db = gain_of(find_starting_point("deesser", "Voice, loud esses"), singer, on_take=True)
    esses = [s for s in voices.sung_syllables() if s.consonant == "s" and s.end_s < 30]
    held = [
        gain_db[round((s.consonant_s + 0.02) * RATE) : round((s.start_s - 0.01) * RATE)].mean() for s in esses
    ]  # fmt: skip
    assert -6.0 < np.mean(held) < -4.0 and np.ptp(held) < 1.0


@pytest.mark.parametrize(
    ("kind", "name", "of", "least_db", "most_db"),
    [
        ("expander", "Drum bus, livelier", "Room", 0.5, 6.0),
        ("expander", "Voice, stronger lines", "Singer", 0.5, 4.0),
        ("deesser", "Guitar, fingers on strings near 2 kHz", "Guitar L", -6.0, -1.0),
        ("deesser", "Kick, the beater near 3 kHz", "Kick", -8.0, -0.5),
        ("dynamic_eq", "Drum bus, three parts without crossovers", "kit", -8.0, -0.5),
        ("dynamic_eq", "Whole mix, four parts without crossovers", "mix", -5.0, -0.5),
        ("dynamic_eq", "Whole mix, six parts without crossovers", "mix", -5.0, -0.5),
    ],
)
def test_starting_points_move_what_they_are_for(placed, mix, kind, name, of, least_db, most_db):
    kit = sum(placed[part] for part in ("Kick", "Snare", "Hats", "Room"))
    sound = {"kit": kit, "mix": mix}.get(of)
    sound = next(p.samples for p in make_parts() if p.name == of) if sound is None else sound
    point = find_starting_point(kind, name)

    for gain_db in gains_of(point, sound[:, SONG][:, : 20 * RATE]).values():
        moved = gain_db[np.abs(gain_db) > 0.25]
        assert least_db <= np.median(moved) <= most_db
        assert np.all(gain_db >= -0.01 if least_db > 0 else gain_db <= 0.01)
    if kind == "expander":  # common practice: seldom beyond 1.43:1, never without a knee
        assert point.settings["ratio"] <= 1.43 and point.settings["knee_db"] >= 6


def test_starting_points_that_are_fast_raise_the_rate_and_no_others():
    for point in STARTING_POINTS:
        settings = parse_settings(point.type, point.settings, point.name)
        if settings.raises_itself:  # for what it bends alone, by the drive
            continue
        assert getattr(settings, "oversampling", "off") == ("auto" if fastest_ms(settings) < 3 else "off"), point.name
