"""Meters of what is heard, and loudness that is matched: against EBU's signals, pyloudnorm and numpy."""

import numpy as np
import pyloudnorm
import pytest

from reins.core.chainfile import parse_entry
from reins.core.engine.listening import Listening
from reins.core.engine.mixer import Mixer
from reins.core.measure.meters import MasterMeter, PeakHold
from reins.core.processors import PROCESSORS
from reins.core.sessions import Document, Track
from reins.core.trials.matching import levelled_by, match_listening, match_makeup
from reins.core.trials.running import Trial
from reins.errors import ConflictError
from tests.conftest import RATE


def sine(level_db, seconds, hz=1000):
    t = np.arange(round(seconds * RATE)) / RATE
    return np.tile(10 ** (level_db / 20) * np.sin(2 * np.pi * hz * t), (2, 1))


def read(meter, signal, block=1024):
    for first in range(0, signal.shape[1], block):
        reading = meter.feed(np.ascontiguousarray(signal[:, first : first + block]))
    return reading


def test_a_steady_tone_reads_as_the_standard_says():
    # EBU Tech 3341, case 1 (from memory): a stereo 1 kHz sine at -23 dBFS reads -23.0 LUFS, M, S and I, +-0.1.
    reading = read(MasterMeter(sample_rate=RATE), sine(-23, 6))

    assert reading.momentary_lufs == pytest.approx(-23, abs=0.1)
    assert reading.short_term_lufs == pytest.approx(-23, abs=0.1)
    assert reading.integrated_lufs == pytest.approx(-23, abs=0.1)
    assert reading.range_lu == pytest.approx(0, abs=0.1)
    assert reading.peak_db == pytest.approx((-23, -23), abs=0.05)
    assert reading.rms_db == pytest.approx((-26.01, -26.01), abs=0.1)  # the last block ends within a period
    assert reading.true_peak_dbtp == pytest.approx(-23, abs=0.2)


def test_short_term_looks_back_three_seconds_and_momentary_four_tenths():
    reading = read(MasterMeter(sample_rate=RATE), np.concatenate([sine(-40, 5), sine(-20, 1)], axis=1))

    energy = (2 * 10**-4.0 + 1 * 10**-2.0) / 3  # two seconds at -40, one at -20
    assert reading.momentary_lufs == pytest.approx(-20, abs=0.15)
    assert reading.short_term_lufs == pytest.approx(10 * np.log10(energy), abs=0.15)


def test_nothing_is_read_from_silence_or_too_early():
    silent = read(MasterMeter(sample_rate=RATE), np.zeros((2, 5 * RATE)))
    early = read(MasterMeter(sample_rate=RATE), sine(-20, 0.2))

    assert (silent.momentary_lufs, silent.integrated_lufs, silent.correlation) == (None, None, None)
    assert silent.true_peak_dbtp == -120
    assert (early.momentary_lufs, early.short_term_lufs) == (None, None)


@pytest.mark.parametrize(
    ("right", "expected"),
    [(lambda x, y: x, 1), (lambda x, y: -0.1 * x, -1), (lambda x, y: y, 0), (lambda x, y: 0.6 * x + 0.8 * y, 0.6)],
)
def test_correlation_is_that_of_the_sides(right, expected):
    x, y = np.random.default_rng(5).standard_normal((2, RATE)) * 0.1

    reading = read(MasterMeter(sample_rate=RATE), np.stack([x, right(x, y)]))

    assert reading.correlation == pytest.approx(expected, abs=0.03)


def test_a_held_peak_stays_a_moment_and_then_falls():
    hold = PeakHold(sample_rate=1000)

    shown = [hold.feed(level, 500) for level in (-20, -6, -30, -30, -40, -3)]

    assert shown == [-20, -6, -6, -6, -40, -3]


def held(**settings):
    return parse_entry({"type": "compressor", "id": "c", "settings": {"threshold_db": -40, **settings}}, "x")


def bursts():
    rng = np.random.default_rng(3)
    shape = np.repeat([0.02, 0.3, 0.1, 0.5, 0.05, 0.3], RATE // 2)
    return rng.standard_normal((2, shape.size)).clip(-1.9, 1.9) * 0.5 * shape


@pytest.mark.parametrize("of", [None, "t"])
def test_matched_choices_are_equally_loud(make_take, of):
    takes = {"a": make_take(bursts())}
    track = Track(name="x", take_id="a", chain=[held(ratio=6.0, lookahead_ms=3)], fader_db=-3)
    document = Document(name="x", tracks={"t": track}, order=["t"])

    gains = match_listening(document, takes, of, 0, takes["a"].facts.frames, lambda: None)

    loudness = []
    for what, gain_db in gains.items():
        mixer = Mixer(document, takes)
        mixer.listen(Listening(what, of, gain_db=gain_db))
        mixer.process(1)  # the choice fades in over the first block
        heard = np.concatenate([mixer.process(4096) for _ in range(takes["a"].facts.frames // 4096)], axis=1)
        loudness.append(pyloudnorm.Meter(RATE).integrated_loudness(heard.T))
    assert gains["result"] == 0
    assert abs(gains["source"]) > 5
    assert max(loudness) - min(loudness) < 0.1


@pytest.mark.parametrize(
    "settings", [{"ratio": 8.0}, {"ratio": 8.0, "mix_pct": 40.0}, {"ratio": 2.0, "makeup_db": 20.0}]
)
def test_matched_makeup_leaves_the_loudness_as_it_was(make_take, settings):
    take = make_take(bursts())
    before = parse_entry({"type": "compressor", "id": "b", "settings": {"threshold_db": -30, "makeup_db": 5}}, "x")

    makeup_db = match_makeup(Trial(take, [before, held(**settings)]), "c", 0, take.facts.frames, lambda: None)

    def loudness(entries):
        mixer = Mixer(
            Document(name="x", tracks={"t": Track(name="x", take_id="a", chain=entries)}, order=["t"]), {"a": take}
        )
        out = np.concatenate([mixer.process(4096) for _ in range(take.facts.frames // 4096)], axis=1)
        return pyloudnorm.Meter(RATE).integrated_loudness(out.T)

    assert loudness([before, held(**settings | {"makeup_db": makeup_db})]) == pytest.approx(loudness([before]), abs=0.1)


def test_makeup_cannot_be_matched_in_silence_or_where_there_is_none(make_take):
    limiter = parse_entry({"type": "limiter", "id": "l"}, "x")
    silence = make_take(np.zeros((1, RATE)))

    with pytest.raises(ConflictError, match="nothing loud enough"):
        match_makeup(Trial(silence, [held()]), "c", 0, RATE, lambda: None)
    with pytest.raises(ConflictError, match="neither makeup nor output"):
        match_makeup(Trial(silence, [limiter]), "l", 0, RATE, lambda: None)


@pytest.mark.parametrize("kind", [kind for kind, made in PROCESSORS.items() if levelled_by(made.Settings())])
def test_whatever_has_a_level_is_brought_to_equal_loudness_with_one_press(make_take, kind):
    take = make_take(bursts())
    entry = parse_entry({"type": kind, "id": "p", "settings": PROCESSORS[kind].timed_with}, "x")
    name = levelled_by(entry.settings)
    level_db = match_makeup(Trial(take, [entry]), "p", 0, take.facts.frames, lambda: None)
    matched = parse_entry({"type": kind, "id": "p", "settings": PROCESSORS[kind].timed_with | {name: level_db}}, "x")
    out = np.concatenate(
        [part for part, _ in Trial(take, [matched]).run(0, take.facts.frames, block_frames=8192)], axis=1
    )
    source = take.read(0, take.facts.frames)
    loud = [pyloudnorm.Meter(RATE).integrated_loudness(sound.T) for sound in (source, out[: source.shape[0]])]
    if out.shape[0] == source.shape[0]:  # a room makes it wider: both sides count
        assert abs(loud[0] - loud[1]) < 0.15
