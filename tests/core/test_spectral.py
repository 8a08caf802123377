"""The short-time Fourier engine against scipy's, bands against their formula, and what works on spectra, measured."""

import numpy as np
import pytest
import scipy.signal

from reins.core.chainfile import parse_entry
from reins.core.dsp.bins import erb_edges, erb_hz, erb_number, erb_powers, from_bands, smoothed
from reins.core.dsp.octaves import TWELFTHS_HZ
from reins.core.dsp.stft import Analysis, Stft, noise_bandwidth_hz, read_power, window_of
from reins.core.engine.chain import Chain
from reins.core.laid import LaidTake
from reins.core.measure.spectra import MAP_HZ, spectrum_in_twelfths
from reins.core.processors import PROCESSORS
from reins.core.sessions import Track
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span
from reins.core.trials.yielding import depth_line
from reins.errors import SettingsError
from tests.conftest import RATE, sound_of


def chain(kind, channels=1, key=None, **settings):
    more = {"key": {"source": "k"}} if key else {}
    entry = parse_entry({"id": "p", "type": kind, "settings": settings | more}, "x")
    return Chain([entry], channels=channels, sample_rate=RATE, key_channels={"k": 1} if key else {})


def made(kind, sound, key=None, **settings):
    """The result lined up with the sound, and the gain told."""
    one = chain(kind, sound.shape[0], key is not None, **settings)
    late = one.latency_frames
    pad = lambda x: np.concatenate([x, np.zeros((x.shape[0], late))], axis=1)  # noqa: E731
    out = one.process(pad(sound), {} if key is None else {"k": pad(key)})
    return out[:, late:], one.gains()[0][1]["gain_db"][late:]


def sine(hz, db, seconds=2.0):
    return 10 ** (db / 20) * np.sin(2 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)[None]


def pink(seconds, seed=1):
    """Noise of equal power in each octave, at an RMS of 0.1."""
    frames = round(seconds * RATE)
    spectrum = np.fft.rfft(np.random.default_rng(seed).standard_normal(frames))
    hz = np.fft.rfftfreq(frames, 1 / RATE)
    sound = np.fft.irfft(spectrum / np.sqrt(np.maximum(hz, 20.0)), frames)
    return (0.1 * sound / sound.std())[None]


def third_octave(sound, hz):
    edges = [hz * 10 ** (-0.05), hz * 10**0.05]
    sections = scipy.signal.butter(6, edges, "bandpass", fs=RATE, output="sos")
    return scipy.signal.sosfiltfilt(sections, sound, axis=1)


def level_db(sound):
    return 10 * np.log10(np.mean(sound**2))


@pytest.mark.parametrize("length", [64, 1024, 16384])
@pytest.mark.parametrize("overlap", [2, 4, 8])
def test_what_is_not_changed_comes_out_a_window_later_however_it_is_cut(length, overlap):
    rng = np.random.default_rng(3)
    sound = rng.standard_normal((2, 40000))
    whole = Stft(2, length, overlap).process(sound, lambda spectra, _: spectra)
    assert np.abs(whole[:, length:] - sound[:, :-length]).max() < 1e-5  # 100 dB and more under the loudest sample
    one, parts, at = Stft(2, length, overlap), [], 0
    while at < 40000:
        frames = int(rng.integers(1, 3000))
        parts.append(one.process(sound[:, at : at + frames], lambda spectra, _: spectra))
        at += frames
    np.testing.assert_array_equal(np.concatenate(parts, axis=1), whole)
    assert scipy.signal.check_COLA(window_of(length) ** 2, length, length - length // overlap)


def test_analysis_is_scipys_and_keeps_power():
    sound = np.random.default_rng(4).standard_normal((1, 9000))
    ours = Analysis(1, 1024, 4).process(sound)[0]
    _, _, theirs = scipy.signal.stft(
        sound[0], RATE, window_of(1024), 1024, 768, boundary=None, padded=False, scaling="spectrum"
    )
    steady = ours[3:]  # the first begin before the sound
    np.testing.assert_allclose(steady, theirs.T[: len(steady)] * window_of(1024).sum(), atol=1e-4)
    # Parseval: the power of a windowed frame is that of its spectrum.
    frame = sound[0, :1024] * window_of(1024)
    bins = np.abs(np.fft.rfft(frame)) ** 2
    assert (bins[0] + 2 * bins[1:-1].sum() + bins[-1]) / 1024 == pytest.approx((frame**2).sum())


def test_levels_are_calibrated_for_tones_and_for_noise():
    length, tone = 2048, sine(RATE * 40 / 2048, -20)
    read = 10 * np.log10(read_power(Analysis(1, length, 4).process(tone), length)[0, 10])
    assert read.argmax() == 40 and read[40] == pytest.approx(-20, abs=0.01)
    noise = np.random.default_rng(1).standard_normal((1, 20 * RATE))  # one-sided density 2 / RATE, read as peaks: twice
    mean = read_power(Analysis(1, length, 4).process(noise), length)[0, :, 10:-10].mean()
    assert mean == pytest.approx(4 / RATE * noise_bandwidth_hz(length, RATE), rel=0.01)


def test_erb_bands_are_those_of_the_formula():
    np.testing.assert_allclose(erb_number([100, 1000, 4000]), [3.37, 15.62, 27.11], atol=0.01)  # the formula
    np.testing.assert_allclose(erb_hz(erb_number([50, 440, 9000])), [50, 440, 9000])
    # One ERB more is as wide as 24.7 (4.37 f / 1000 + 1) Hz says (same source).
    for hz in (200.0, 1000.0, 5000.0):
        wide = erb_hz(erb_number(hz) + 0.5) - erb_hz(erb_number(hz) - 0.5)
        assert wide == pytest.approx(24.7 * (4.37 * hz / 1000 + 1), rel=0.02)
    begins, middles = erb_edges(2048, RATE)
    power = np.random.default_rng(1).random((3, 1025))
    np.testing.assert_allclose(erb_powers(power, begins).sum(axis=1), power.sum(axis=1))
    assert np.all(np.diff(middles) > 0) and len(middles) == 44


def test_smoothing_leaves_what_is_even_and_spreads_a_peak_over_its_octaves():
    even = np.full((1, 1, 1025), -6.0, np.float32)
    np.testing.assert_allclose(smoothed(even, 0.5), even, rtol=1e-6)
    peak = np.zeros((1, 1, 1025), np.float32)
    peak[0, 0, 512] = -12.0
    spread = smoothed(peak, 1.0)[0, 0]
    touched = np.flatnonzero(spread)
    assert touched[0] == pytest.approx(512 / 2**0.5, abs=3) and touched[-1] == pytest.approx(512 * 2**0.5, abs=3)
    assert spread.min() > -0.1


@pytest.mark.parametrize("octaves", [0.0, 0.1, 1.0])
def test_bins_take_of_bands_straight_from_middle_to_middle_and_smoothed(octaves):
    _, middles = erb_edges(2048, RATE)
    bands = np.random.default_rng(4).standard_normal(middles.size)
    first, shares = from_bands(2048, RATE, octaves)

    made = (bands[first + np.arange(len(shares))[:, None]] * shares).sum(axis=0)
    straight = np.interp(erb_number(np.arange(1025) * RATE / 2048), erb_number(middles), bands)
    expected = smoothed(straight.astype(np.float32)[None, None], octaves)[0, 0]
    np.testing.assert_allclose(made, expected, atol=1e-5)
    assert np.all(np.diff(first) >= 0)


@pytest.mark.parametrize("kind", ["fine_bands", "make_room"])
def test_at_rest_nothing_is_changed(kind):
    noise = 0.3 * np.random.default_rng(2).standard_normal((2, RATE))
    rest = {"hold_ratio": 1.0} if kind == "fine_bands" else {"amount_db": 0.0}
    out, gain = made(kind, noise, **rest)
    assert np.abs(out - noise).max() < 1e-6 and not gain.any()


@pytest.mark.parametrize("window", [512, 2048, 8192])
def test_a_sine_held_flat_comes_out_at_the_threshold(window):
    hz = RATE * round(1000 * window / RATE) / window
    out, gain = made(
        "fine_bands", sine(hz, -20), hold_ratio=100, threshold_points=[[1000, -35]], window=window, smoothing_oct=0,
        attack_ms=1, knee_db=0,
    )  # fmt: skip
    middle = out[0, RATE // 2 : -RATE // 2]
    assert 10 * np.log10(2 * np.mean(middle**2)) == pytest.approx(-35, abs=1.0)
    turns = np.exp(2j * np.pi * hz * np.arange(middle.size) / RATE)
    rest = middle - 2 * np.real(np.mean(middle * turns.conj()) * turns)
    assert level_db(rest) < level_db(middle) - 40  # it is still a sine
    assert gain[RATE] == pytest.approx(-15, abs=1.0)


def test_the_drawn_threshold_is_straight_over_log_frequency_flat_beyond_and_moved_as_a_whole():
    one = chain("fine_bands", threshold_points=[[100, -60], [10000, -20]], threshold_db=5)
    fine = one._stages[0].processor
    at = lambda hz: np.interp(hz, fine._hz, fine._drawn_db)  # noqa: E731
    assert [at(50), at(1000), at(15000)] == pytest.approx([-55, -35, -15], abs=0.3)


def test_below_it_is_lifted_or_closed_within_its_range_and_lifting_fades_at_the_edges():
    quiet = sine(RATE * 64 / 2048, -70)
    common = {"hold_ratio": 1, "threshold_points": [[1000, -50]], "smoothing_oct": 0, "attack_ms": 1, "knee_db": 0}
    _, gain = made("fine_bands", quiet, lift_ratio=2, lift_range_db=20, **common)
    assert gain[RATE] == pytest.approx(10, abs=0.6)
    _, gain = made("fine_bands", quiet, close_ratio=2, close_range_db=12, **common)
    assert gain[RATE] == pytest.approx(-12, abs=0.3)
    _, gain = made("fine_bands", quiet, lift_ratio=2, lift_range_db=20, to_hz=1500 * 2**0.5, **common)
    assert gain[RATE] == pytest.approx(5, abs=0.5)  # half an octave under the edge
    with pytest.raises(SettingsError, match="close_ratio"):
        chain("fine_bands", lift_ratio=2, close_ratio=2)


def test_pink_noise_is_held_evenly_and_grows_no_music_of_its_own():
    noise = pink(20)
    points = [[50, 0], [16000, 0]]
    probe = chain("fine_bands", hold_ratio=1)._stages[0].processor
    mean = read_power(Analysis(1, 2048, 4).process(noise), 2048)[0].mean(axis=0)
    for k, hz in enumerate((50, 16000)):
        near = mean[(probe._hz > hz / 1.2) & (probe._hz < hz * 1.2)].mean()
        points[k][1] = 10 * np.log10(near) - 6  # the noise lies 6 dB over it
    out, _ = made("fine_bands", noise, hold_ratio=4, threshold_points=points, release_ms=200, attack_ms=20)
    inner = slice(RATE, -RATE)
    changes, growths = [], []
    for hz in 1000 * 2.0 ** (np.arange(-9, 12) / 3):
        before, after = (third_octave(sound, hz)[:, inner] for sound in (noise, out))
        changes.append(level_db(after) - level_db(before))
        short = [10 * np.log10((x[0] ** 2).reshape(-1, 4800).mean(axis=1)).std() for x in (before, after)]
        growths.append(short[1] - short[0])
    assert np.ptp(changes) < 2.0  # within 1 dB of even
    assert -8 < np.mean(changes) < -2 and max(growths) < 1.0


def test_what_sticks_out_of_the_takes_own_mean_is_held_and_nothing_else():
    rng = np.random.default_rng(5)
    noise = 0.02 * rng.standard_normal((1, 6 * RATE))
    whistle = noise + np.where(np.arange(6 * RATE) > 3 * RATE, sine(3000, -20, 6)[0], 0.0)
    entry = parse_entry({"id": "p", "type": "fine_bands", "settings": {
        "reference": "own_mean", "threshold_db": 10, "hold_ratio": 20, "hold_range_db": 24}}, "x")  # fmt: skip
    one = Chain([entry], channels=1, sample_rate=RATE, spectrum=spectrum_in_twelfths(sound_of(noise)))
    out = one.process(np.concatenate([whistle, np.zeros((1, 2048))], axis=1))[:, 2048:]
    late, early = slice(4 * RATE, 6 * RATE), slice(RATE, 3 * RATE)
    assert level_db(third_octave(out, 3000)[:, late]) < level_db(third_octave(whistle, 3000)[:, late]) - 10
    assert level_db(out[:, early]) == pytest.approx(level_db(whistle[:, early]), abs=0.7)
    assert level_db(third_octave(out, 800)[:, late]) == pytest.approx(
        level_db(third_octave(whistle, 800)[:, late]), abs=0.5
    )


def test_a_key_is_stepped_back_for_and_its_balance_taken_on():
    noise, key = pink(4), third_octave(pink(4, 2), 2000) * 8
    out, _ = made(
        "fine_bands", noise, key, reference="key", threshold_points=[[1000, -50]], hold_range_db=12, hold_ratio=100
    )
    inner = slice(RATE, -RATE)
    changes = {
        hz: level_db(third_octave(out, hz)[:, inner]) - level_db(third_octave(noise, hz)[:, inner])
        for hz in (500, 2000, 8000)
    }
    assert changes[2000] < -8 and abs(changes[500]) < 0.5 and abs(changes[8000]) < 0.5
    bright = scipy.signal.lfilter([1, -0.7], [1], noise)
    taken, _ = made("fine_bands", noise, bright, reference="key", key_way="balance", hold_ratio=100, lift_range_db=24)
    for hz in (200, 1000, 6000):
        want = level_db(third_octave(bright, hz)[:, inner])
        assert level_db(third_octave(taken, hz)[:, inner]) == pytest.approx(want, abs=1.5)


def test_room_is_made_where_and_when_the_key_is():
    noise, key = pink(6), third_octave(pink(6, 2), 1000)
    key = key / key.std() * 0.1
    key[:, 3 * RATE :] = 0.0
    out, _ = made("make_room", noise, key, amount_db=-12, attack_ms=5, release_ms=60, smoothing_oct=0)
    sounding, silent = slice(RATE, 3 * RATE - 4800), slice(4 * RATE, 6 * RATE)

    def change(hz, part):
        return level_db(third_octave(out, hz)[:, part]) - level_db(third_octave(noise, hz)[:, part])

    assert change(1000, sounding) == pytest.approx(-12, abs=1.5)
    for hz, part in ((500, sounding), (2000, sounding), (1000, silent), (500, silent)):
        assert change(hz, part) == pytest.approx(0, abs=0.5)
    forward, _ = made("make_room", noise, key, amount_db=6, attack_ms=5, release_ms=60, smoothing_oct=0)
    grown = level_db(third_octave(forward, 1000)[:, sounding]) - level_db(third_octave(noise, 1000)[:, sounding])
    assert grown == pytest.approx(6, abs=1.0)


def test_room_is_made_as_deep_as_it_is_drawn():
    noise = pink(4)
    key = sum(third_octave(pink(4, seed), hz) * gain for seed, hz, gain in ((2, 400, 1), (3, 3000, 2)))
    depth = [[20, 100], [900, 100], [1400, 50], [20000, 50]]
    whole, _ = made("make_room", noise, key, amount_db=-12, smoothing_oct=0)
    drawn, _ = made("make_room", noise, key, amount_db=-12, smoothing_oct=0, depth_points=depth)

    def change(out, hz):
        return level_db(third_octave(out, hz)[:, RATE:-RATE]) - level_db(third_octave(noise, hz)[:, RATE:-RATE])

    assert change(whole, 3000) < -6
    assert change(drawn, 400) == pytest.approx(change(whole, 400), abs=0.2)
    assert change(drawn, 3000) == pytest.approx(0.5 * change(whole, 3000), abs=1.0)


@pytest.mark.parametrize("wrong", [[[20, 100]], [[20, 101], [200, 0]], [[200, 5], [20, 5]], [[5, 0], [20, 0]]])
def test_a_depth_that_is_none_is_refused(wrong):
    with pytest.raises(SettingsError, match="depth_points"):
        parse_entry({"type": "make_room", "id": "p", "settings": {"depth_points": wrong}}, "x")


def test_depths_of_regions_that_lie_side_by_side_or_apart_are_one_rising_line():
    line = depth_line([(1000, 2000, 50), (200, 400, 100), (2000, 3000, 80)])
    assert [at for at, _ in line] == sorted(at for at, _ in line)
    level = lambda hz: np.interp(np.log(hz), np.log([at for at, _ in line]), [depth for _, depth in line])  # noqa: E731
    assert [level(hz) for hz in (100, 300, 640, 1500, 2500, 4000)] == pytest.approx([0, 100, 0, 50, 80, 0], abs=0.5)
    parse_entry({"type": "make_room", "id": "p", "settings": {"depth_points": line}}, "x")


def test_the_middle_alone_is_moved():
    noise = np.concatenate([pink(3, 1), pink(3, 2)])
    key = third_octave(pink(3, 3), 1000) * 10
    out, _ = made("make_room", noise, key, amount_db=-12, focus="middle", smoothing_oct=0)
    np.testing.assert_allclose(out[0] - out[1], noise[0] - noise[1], atol=1e-6)
    middle = lambda s: third_octave((s[0] + s[1])[None], 1000)[:, RATE:-RATE]  # noqa: E731
    assert level_db(middle(out)) < level_db(middle(noise)) - 8


@pytest.mark.parametrize(
    "wrong",
    [
        {"threshold_points": []}, {"threshold_points": [[1000, -40]] * 33},
        {"threshold_points": [[5000, -40], [100, -40]]},
        {"threshold_points": [[1, -40]]}, {"window": 1000}, {"overlap": 3}, {"smoothing_oct": 2},
    ],
)  # fmt: skip
def test_what_cannot_be_set_is_refused(wrong):
    with pytest.raises(SettingsError, match="allowed"):
        chain("fine_bands", **wrong)


@pytest.mark.parametrize("frames", [64, 1200])
def test_it_listens_to_a_key_from_any_moment_on(frames):
    """As if it had always: the key's windows have ended with the sound's."""
    sound = np.random.default_rng(5).standard_normal((2, 24000)) * 0.1
    fixed, keyed = (
        parse_entry({"id": "p", "type": "fine_bands", "settings": {"reference": name, "threshold_db": -40}}, "x")
        for name in ("fixed", "key")
    )
    blocks = [sound[:, at : at + frames] for at in range(0, sound.shape[1], frames)]
    one, always = (Chain([entry], channels=2, sample_rate=RATE) for entry in (fixed, keyed))
    for block in blocks[: len(blocks) // 2]:
        one.process(block)
        always.process(block)
    one = one.evolved([keyed])
    for block in blocks[len(blocks) // 2 :]:
        late, usual = one.process(block), always.process(block)
    assert not one.failures
    np.testing.assert_allclose(late, usual, atol=1e-3)


def span_of(sound, kind="fine_bands", more=(), **settings):
    entry = parse_entry({"id": "p", "type": kind, "settings": settings}, "x")
    return measure_span(Trial(sound_of(sound), [*more, entry]), "p", 0, sound.shape[1])


@pytest.mark.parametrize(("window", "overlap"), [(256, 8), (2048, 4), (8192, 2)])
def test_the_map_of_what_was_held_shows_a_tone_where_and_while_it_sounds(window, overlap):
    sound = sine(3000, -60, 4.0)
    sound[:, RATE : 2 * RATE] += sine(1000, -20, 1.0)
    span = span_of(sound, threshold_points=[[1000, -30]], hold_ratio=100, knee_db=0, window=window, overlap=overlap)
    assert span.held_map.codes.nbytes < 60e6 / 300 * 4
    shown = span.held_map.columns(0, sound.shape[1], 40) / 2.0
    at = int(np.abs(MAP_HZ - 1000).argmin())
    assert shown[13:18, at] == pytest.approx(-10, abs=1.5) and not shown[:8, at].any() and not shown[30:, at].any()
    far = np.abs(MAP_HZ - 1000) > max(500, 12 * RATE / window)  # bins to which it leaks are moved with it
    assert not shown[13:18, far].any()
    # Closer looks are of the same: in each piece of ten columns what is furthest from 0 is that of one column.
    closer = span.held_map.columns(0, sound.shape[1], 400).reshape(40, 10, -1).min(axis=1) / 2.0
    np.testing.assert_allclose(closer[14:17], shown[14:17], atol=0.5)
    assert not span.held_map.columns(-RATE, RATE, 10).any()  # before it begins


def test_the_map_stands_at_the_sounds_time_behind_what_is_late():
    sound = np.zeros((1, 3 * RATE))
    sound[:, RATE : RATE + 4800] = sine(1000, -20, 0.1)
    late = parse_entry({"id": "l", "type": "limiter", "settings": {"lookahead_ms": 10, "ceiling_db": 0}}, "x")
    for more in ((), (late, late.model_copy(update={"id": "m"}))):
        shown = span_of(sound, more=more, threshold_points=[[1000, -40]], release_ms=1, attack_ms=0).held_map
        held = np.flatnonzero(shown.columns(0, 3 * RATE, 300).any(axis=1))
        assert held.min() == pytest.approx(100, abs=3) and held.max() == pytest.approx(110, abs=3)


def test_a_threshold_on_a_takes_mean_goes_with_its_trim(make_take):
    take = make_take(pink(6.0) + sine(2000, -22, 6.0))
    entry = parse_entry(
        {"id": "p", "type": "fine_bands", "settings": {"reference": "own_mean", "threshold_db": 8}}, "x"
    )

    def held(trim_db):
        laid = LaidTake(take, Track(name="T", take_id="t", trim_db=trim_db))
        return measure_span(Trial(laid, [entry]), "p", 0, laid.facts.frames)

    plain, louder = held(0.0), held(12.0)
    assert plain.statistics()["held_pct"] > 5  # something sticks out
    assert louder.statistics()["usual_db"] == pytest.approx(plain.statistics()["usual_db"], abs=0.1)
    assert np.abs(louder.held_map.codes.astype(int) - plain.held_map.codes).max() <= 1


def test_what_a_drawn_threshold_lies_on_is_the_mean_a_bin_reads():
    quiet, loud = (0.1 * pink(3.0)[0] * gain for gain in (1.0, 4.0))
    spectra = [spectrum_in_twelfths(sound_of(sound[None])) for sound in (quiet, loud)]
    kind, settings = PROCESSORS["fine_bands"], parse_entry(
        {"type": "fine_bands", "settings": {"reference": "own_mean", "threshold_db": 3}}, "x"
    ).settings  # fmt: skip
    hz = np.array([100.0, 1000.0, 8000.0])
    on = [kind.lies_on_db(settings, hz, one, RATE) - 40.0 for one in spectra]  # its one point, at -40, is drawn over it
    np.testing.assert_allclose(on[1] - on[0], 20 * np.log10(4), atol=1e-6)
    # A bin of a window reads of noise so much of its density as its bandwidth.
    density = spectra[0] / (TWELFTHS_HZ * (2 ** (1 / 24) - 2 ** (-1 / 24))) * noise_bandwidth_hz(2048, RATE)
    want = np.interp(np.log(hz), np.log(TWELFTHS_HZ), 10 * np.log10(density)) + 3
    np.testing.assert_allclose(on[0], want, atol=0.1)
