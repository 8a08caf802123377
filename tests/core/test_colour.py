"""Colour: harmonics against the series of the curves, what folds back, the raised rate against scipy, loudness."""

import numpy as np
import pyloudnorm
import pytest
from scipy import signal

from reins.core.chainfile import parse_entry
from reins.core.dsp.raising import LATENCY_FRAMES, TIMES
from reins.core.dsp.shaping import STRAIGHT, Bender
from reins.core.processors import PROCESSORS
from reins.core.processors.base import alone
from reins.core.processors.shaper import Shaper, drive_k, times_for
from tests.conftest import RATE

KINDS = ("soft", "hard", "odd", "even")
LATE = LATENCY_FRAMES


def colour(sound, rate=RATE, **settings):
    entry = parse_entry({"type": "colour", "settings": {"auto_level": False, **settings}}, "x")
    made = PROCESSORS["colour"](entry.settings, channels=sound.shape[0], sample_rate=rate)
    return made.process(alone(sound, rate))


def sine(hz, level_db, frames=RATE, rate=RATE):
    return 10.0 ** (level_db / 20.0) * np.sin(2 * np.pi * hz * np.arange(frames) / rate)[None]


def harmonics(sound, hz, rate=RATE, count=9):
    """Amplitudes of a tone's harmonics over whole periods at the end, by the discrete Fourier transform."""
    frames = rate // 2
    bins = np.abs(np.fft.rfft(sound[0, -frames:])) * 2 / frames
    return np.array([bins[round(n * hz * frames / rate)] for n in range(1, count + 1)])


@pytest.mark.parametrize("kind", KINDS)
def test_without_drive_nothing_is_added_to_the_bit_and_all_is_equally_late(kind):
    noise = np.random.default_rng(1).standard_normal((2, 3000))

    for times in ("auto", *TIMES):
        out = colour(noise, kind=kind, drive_db=0.0, bias_pct=30.0, oversampling=times)
        np.testing.assert_array_equal(out[:, LATE:], noise[:, :-LATE])


@pytest.mark.parametrize("kind", ["soft", "odd", "even"])
def test_which_harmonics_a_kind_adds(kind):
    second, third = harmonics(colour(sine(1000, -12), kind=kind, drive_db=12.0), 1000)[1:3]

    apart = 20 * np.log10(max(second, 1e-9) / max(third, 1e-9))
    assert apart >= 10 if kind == "even" else apart <= -10


def test_harmonics_are_those_of_the_curves_own_series():
    k, a = float(drive_k(12.0)), 10 ** (-12 / 20)
    u = k * a
    # sin^3 = (3 sin - sin 3x) / 4: below the corner u - u^3 / 3 gives the third alone (Chebyshev).
    odd = harmonics(colour(sine(1000, -12), kind="odd", drive_db=12.0), 1000)
    assert odd[2] == pytest.approx(u**3 / 12 / k, rel=1e-3) and odd[4] < 1e-6
    assert odd[0] == pytest.approx((u - u**3 / 4) / k, rel=1e-3)
    # Taylor's series of sqrt(1 + u^2) - 1 = u^2 / 2 - u^4 / 8 + u^6 / 16 ..., by powers of a sine's cosines.
    small = 10 ** (-30 / 20) * k
    even = harmonics(colour(sine(1000, -30), kind="even", drive_db=12.0), 1000)
    series = 0.5 * (small**2 / 4 - small**4 / 16 + 15 * small**6 / 512)
    assert even[1] == pytest.approx(series / k, rel=1e-3)


@pytest.mark.parametrize("kind", KINDS)
def test_what_curves_add_away_from_the_middle_is_what_the_formula_says(kind):
    u = np.linspace(-3, 3, 31)[None]
    b = 0.9 * 0.4
    f = {
        "soft": lambda x: x / np.sqrt(1 + x * x), "hard": lambda x: np.clip(x, -1, 1),
        "odd": lambda x: np.clip(x, -1, 1) - np.clip(x, -1, 1) ** 3 / 3,
        "even": lambda x: x + (np.sqrt(1 + x * x) - 1) / 2,
    }[kind]  # fmt: skip
    slope = (f(b + 1e-6) - f(b - 1e-6)) / 2e-6

    added = Shaper.still(u, kind=kind, bias_pct=40.0)

    np.testing.assert_allclose(added, (f(u + b) - f(b)) / slope - u, atol=1e-8)


@pytest.mark.parametrize("rate", [44100, 48000])
@pytest.mark.parametrize("kind", KINDS)
def test_nothing_folds_back_that_is_less_than_80_db_under_the_tone_nor_69_at_the_most_drive(kind, rate):
    for hz in (5000, 10000):
        for drive_db, under_db in ((3.9, 80), (6.4, 80), (24.0, 80), (36.0, 69)):
            made = colour(sine(hz, -6, rate, rate), rate, kind=kind, drive_db=drive_db)[0, -rate // 2 :]
            bins = np.abs(np.fft.rfft(made * np.blackman(made.size)))
            at = np.fft.rfftfreq(made.size, 1 / rate)
            tone = bins[np.abs(at - hz) < 1].max()
            own = np.abs(at - hz * np.round(at / hz)) < 20
            assert bins[~own & (at > 20) & (at < 20000)].max() < 10 ** (-under_db / 20) * tone


def through(bender, sound):
    """A sound (channels, n) that went up and down with nothing bent, and what it was at the raised rate."""
    down = bender.process(np.ascontiguousarray(sound), 1.0, STRAIGHT, 0.0)
    return down, bender.way.driven().transpose(0, 2, 1).reshape(sound.shape[0], -1)


@pytest.mark.parametrize("rate", [44100, 48000])
def test_the_raised_rate_passes_what_is_heard_and_has_no_images(rate):
    impulse = np.zeros((1, 4096))
    impulse[0, 1000] = 1.0
    for times in TIMES[1:]:
        bender = Bender(1, rate, times)
        down, up = through(bender, impulse)
        at = np.fft.rfftfreq(impulse.size, 1 / rate)
        both_db = 20 * np.log10(np.abs(np.fft.rfft(down[0])))
        assert np.abs(both_db[at <= 20000]).max() < 0.05
        np.testing.assert_allclose(down[0, 1000 + LATE - 3 : 1000 + LATE + 4].argmax(), 3)
        high = np.fft.rfftfreq(up.size, 1 / (rate * times))
        up_db = 20 * np.log10(np.abs(np.fft.rfft(up[0])) / times + 1e-12)
        assert up_db[high >= rate - 20000].max() < -100.0
        # scipy's own raising, with a filter far longer, says the same of what is heard.
        noise = signal.resample_poly(np.random.default_rng(3).standard_normal(1500), 3, 2)[None]
        theirs = signal.resample_poly(noise[0], times, 1, window=("kaiser", 14.0))
        ours = through(Bender(1, rate, times), noise)[1][0]
        late = int(np.argmax(np.correlate(ours, theirs, "full"))) - (theirs.size - 1)
        inner = slice(100 * times, -100 * times)
        np.testing.assert_allclose(ours[late:][inner], theirs[: theirs.size - late][inner], atol=2e-3)


def test_another_rate_is_no_other_latency():
    kinds = [
        PROCESSORS["colour"].Settings(oversampling=times, drive_db=d) for times in ("auto", *TIMES) for d in (0, 30)
    ]

    assert {PROCESSORS["colour"].latency_of(s, sample_rate=RATE) for s in kinds} == {LATE}
    asked = [PROCESSORS["colour"].Settings(drive_db=d) for d in (0.0, 3.9, 4.0, 6.5, 36.0)]
    assert [times_for(s) for s in asked] == [2, 2, 4, 8, 8] and times_for(asked[0], moves=True) == 8
    even = [PROCESSORS["colour"].Settings(drive_db=36.0, kind="even", oversampling=times) for times in ("auto", 2)]
    assert [times_for(s) for s in even] == [16, 2]


def test_a_drive_of_another_rate_while_it_runs_keeps_state_and_makes_no_step():
    tone = sine(300, -12, 9600)
    entry = parse_entry({"type": "colour", "settings": {"auto_level": False, "drive_db": 6.4}}, "x")
    one = PROCESSORS["colour"](entry.settings, channels=1, sample_rate=RATE)
    first = one.process(alone(tone[:, :4800], RATE))
    one.apply(entry.settings.model_copy(update={"drive_db": 6.6}))
    both = np.concatenate([first, one.process(alone(tone[:, 4800:], RATE))], axis=1)

    assert np.abs(np.diff(both[0, 4000:6000])).max() < 0.02


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("drive_db", [12.0, 30.0])
def test_what_comes_out_is_as_loud_as_what_went_in(kind, drive_db):
    rng = np.random.default_rng(5)
    phrases = (
        np.repeat(rng.uniform(0.05, 1.0, 20), RATE // 2)
        * np.hanning(RATE // 2).repeat(1)[np.arange(10 * RATE) % (RATE // 2)]
    )
    b, a = signal.butter(2, [150, 4000], "band", fs=RATE)
    voice = 0.3 * signal.lfilter(b, a, rng.standard_normal(10 * RATE)) * phrases

    made = colour(voice[None], kind=kind, drive_db=drive_db, auto_level=True)[0]

    meter = pyloudnorm.Meter(RATE)
    assert meter.integrated_loudness(made[LATE:]) == pytest.approx(meter.integrated_loudness(voice), abs=0.5)


def test_only_the_band_is_bent():
    sound = sine(200, -9) + sine(9000, -9)
    low = harmonics(colour(sound, kind="hard", drive_db=24.0, to_hz=600.0), 200)
    plain = harmonics(colour(sound, kind="hard", drive_db=24.0, from_hz=5000.0), 200)

    assert low[2] > 0.01 > 10 * plain[2]


def test_a_tilt_moves_what_is_bent_and_is_undone():
    tones = sine(250, -12)
    dark, bright = (harmonics(colour(tones, kind="odd", drive_db=9.0, tilt_db=t), 250)[2] for t in (12.0, -12.0))

    assert bright > 4 * dark  # a tone below the middle is louder where the tilt darkens
    np.testing.assert_allclose(colour(tones, drive_db=0.0, tilt_db=12.0)[:, LATE:], tones[:, :-LATE], atol=1e-12)


def test_the_shown_harmonics_are_those_of_the_sound():
    settings = PROCESSORS["colour"].Settings(kind="soft", drive_db=15.0, bias_pct=25.0, auto_level=False)
    shown = PROCESSORS["colour"].harmonics_db(settings)
    heard = harmonics(colour(sine(100, shown["tone_db"]), kind="soft", drive_db=15.0, bias_pct=25.0), 100)

    np.testing.assert_allclose(shown["db"][:5], 20 * np.log10(heard[:5]), atol=0.1)
