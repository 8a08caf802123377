"""What a setting did, against the same figures by plain numpy."""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from reins.core.measure.levels import measure_source
from reins.core.measure.span import Fold
from reins.core.measure.tap import quietest_tenth_db
from reins.core.sessions import Track
from reins.core.trials.above import from_above
from reins.core.trials.pictures import histogram_of
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span
from tests.conftest import RATE, kept


@pytest.fixture
def entries():
    return [parse_entry({"type": "compressor", "id": "c", "settings": {"threshold_db": -30, "lookahead_ms": 2}}, "x")]


def plain(noise, entries):
    chain = Chain(entries, channels=2, sample_rate=RATE)
    result = chain.process(np.pad(noise, ((0, 0), (0, 96))))[:, 96:]
    return result, chain.gains()[0][1]["gain_db"][96:]


def test_statistics_are_those_of_the_gain(make_take, noise, entries):
    take = make_take(noise)
    for entry in (entries[0], parse_entry({"type": "expander", "id": "c", "settings": {"threshold_db": -20}}, "x")):
        span = measure_span(Trial(take, [entry]), "c", 0, noise.shape[1])

        chain = Chain([entry], channels=2, sample_rate=RATE)
        late = chain._stages[0].processor.latency_frames
        chain.process(np.pad(kept(noise), ((0, 0), (0, late))))
        gain = chain.gains()[0][1]["gain_db"][late:]
        statistics = span.statistics()
        held = gain <= -0.5
        assert 10.0 < 100 * held.mean() < 99.0
        assert statistics["held_pct"] == pytest.approx(100 * held.mean(), abs=0.001)
        assert statistics["usual_db"] == pytest.approx(np.median(gain[held]), abs=0.051)
        assert statistics["deepest_db"] == pytest.approx(gain.min(), abs=1e-9)


def test_what_is_given_is_counted_as_what_is_taken_and_half_a_db_counts():
    taken, given = np.array([-0.499, -0.5, -0.75, -7.0, -80.0, 0.0]), np.array([0.499, 0.5, 0.75, 7.0, 80.0, 0.0])
    for gains in (taken, given):
        fold = Fold(0, 6, sample_rate=RATE, keyed=False, banded=True)
        fold.feed(np.zeros((1, 6)), {"gain_db": gains}, {}, 0)
        statistics, band = fold.span().statistics(), fold.span().bands["gain_db"].statistics(6)
        assert statistics["held_pct"] == pytest.approx(100 * 4 / 6)
        assert statistics["usual_db"] == band["usual_db"] == pytest.approx(0.75 * np.sign(gains[0]))


def test_columns_and_levels_are_those_of_the_result(make_take, noise, entries):
    span = measure_span(Trial(make_take(noise), entries), "c", 0, 24000)
    peaks, deepest, _ = span.columns(0, 24000, 75)

    result, gain = plain(kept(noise), entries)
    np.testing.assert_allclose(peaks, np.abs(result).max(axis=0).reshape(75, 320).max(axis=1), atol=1e-12)
    np.testing.assert_allclose(deepest, np.minimum(gain.reshape(75, 320).min(axis=1), 0), atol=1e-12)
    assert span.result.crest_db == pytest.approx(20 * np.log10(np.abs(result).max() / np.sqrt(np.mean(result**2))))


def test_a_span_inside_a_take_shows_what_the_whole_shows(make_take, noise, entries):
    take = make_take(np.tile(noise, 8))

    whole = measure_span(Trial(take, entries), "c", 0, take.facts.frames)
    part = measure_span(Trial(take, entries), "c", 150016, 24000)

    np.testing.assert_allclose(part.columns(150016, 24000, 50)[1], whole.columns(150016, 24000, 50)[1], atol=1e-3)


def test_the_source_is_measured_over_its_span(make_take, noise):
    take = make_take(noise)

    level = measure_source(take, 6000, 12000)

    part = kept(noise)[:, 6000:18000]
    assert level.rms_db == pytest.approx(20 * np.log10(np.sqrt(np.mean(part**2))), abs=1e-6)


def test_a_span_can_be_stopped(make_take, noise, entries):
    def stop():
        raise InterruptedError("newer")

    with pytest.raises(InterruptedError, match="newer"):
        measure_span(Trial(make_take(noise), entries), "c", 0, 24000, stop)


def test_what_comes_to_a_processor_and_what_it_makes_is_tapped_where_it_stands(make_take, noise):
    chain = [
        parse_entry({"type": kind, "id": name, "settings": settings}, "x")
        for name, kind, settings in (
            ("a", "compressor", {"threshold_db": -30, "lookahead_ms": 3}), ("off", "gate", {}),
            ("b", "compressor", {"threshold_db": -40, "makeup_db": 6, "lookahead_ms": 5}), ("c", "limiter", {}),
        )
    ]  # fmt: skip
    chain[1] = chain[1].model_copy(update={"on": False})
    take = make_take(np.tile(0.3 * noise, 8))
    frames = take.facts.frames

    def alone(entries):
        chain = Chain(entries, channels=2, sample_rate=RATE)
        late = chain.latency_frames
        return chain.process(np.pad(kept(np.tile(0.3 * noise, 8)), ((0, 0), (0, late))))[:, late:]

    span = measure_span(Trial(take, chain), "b", 0, frames)
    before, after = alone(chain[:1]), alone(chain[:3])
    for tap, sound in ((span.before, before), (span.after, after)):
        np.testing.assert_allclose(
            span.tap_columns(tap, 0, frames, 75), np.abs(sound).max(axis=0).reshape(75, -1).max(axis=1), atol=1e-12
        )
        assert tap.level().crest_db == pytest.approx(20 * np.log10(np.abs(sound).max() / np.sqrt(np.mean(sound**2))))
    part = measure_span(Trial(take, chain), "b", 64000, 32000)
    np.testing.assert_allclose(part.before.peaks, span.before.peaks[1000:1500], atol=1e-4)
    assert (first := measure_span(Trial(take, chain), "a", 0, 6400)).before is None and first.after is not None
    assert (last := measure_span(Trial(take, chain), "c", 0, 6400)).after is None and last.before is not None
    assert measure_span(Trial(take, chain), "off", 0, 6400).before is None


def test_the_quietest_tenth_is_that_of_the_plain_percentile():
    peaks = np.concatenate([np.zeros(160), np.full(160, 0.001), np.full(1440, 0.1)])

    assert quietest_tenth_db(peaks) == pytest.approx(20 * np.log10(np.percentile([0.001] * 10 + [0.1] * 90, 10)))
    assert quietest_tenth_db(np.zeros(64)) is None
    told = histogram_of(peaks)
    assert dict(zip(told["from_db"], told["share_pct"], strict=True))[-60.0] == pytest.approx(100 * 10 / 110, abs=0.01)


@pytest.mark.parametrize(
    ("kind", "settings", "steady"),
    [
        ("compressor", {"threshold_db": -60, "ratio": 20, "attack_ms": 400, "release_ms": 4000, "range_db": 6}, -6.0),
        ("compressor", {"threshold_db": -20, "ratio": 4, "attack_ms": 5, "release_ms": 60}, None),
        ("compressor", {"threshold_db": 0}, None),
    ],
)
def test_a_hold_that_never_varies_is_told_to_be_a_fader(make_take, kind, settings, steady):
    rng = np.random.default_rng(2)
    sound = 0.2 * rng.standard_normal((1, 4 * RATE)) * np.tile(np.repeat([1.0, 0.1], RATE // 4), 8)
    entry = parse_entry({"id": "p", "type": kind, "settings": settings}, "x")
    span = measure_span(Trial(make_take(sound), [entry]), "p", 2 * RATE, 2 * RATE)

    assert span.steady_db() == (None if steady is None else pytest.approx(steady, abs=0.5))


@pytest.mark.parametrize("latency", [0.0, 12.5])
def test_from_above_it_is_the_gain_and_the_peaks_in_few_columns(make_take, noise, latency):
    settings = {"threshold_db": -30, "lookahead_ms": latency}
    two = [parse_entry({"type": kind, "id": kind, "settings": settings}, "x") for kind in ("compressor", "expander")]
    frames = noise.shape[1]
    take = make_take(noise)
    seen = from_above(Trial(take, two), 50)

    chain = Chain(two, channels=2, sample_rate=RATE)
    late = chain.latency_frames
    made = chain.process(np.pad(kept(noise), ((0, 0), (0, late))))[:, late:]
    rows = [moving["gain_db"][at : at + frames] for _, moving, at in chain.gains()]
    gain = np.minimum(*rows)
    starts = (np.arange(50) * -(-frames // 64)) // 50 * 64
    np.testing.assert_allclose(seen.peaks, np.maximum.reduceat(np.abs(made).max(axis=0), starts), rtol=1e-6)
    np.testing.assert_allclose(seen.held_db, np.minimum.reduceat(gain, starts), atol=1e-5)
    assert seen.held_pct == pytest.approx(100.0 * (gain <= -0.5).mean(), abs=1e-6)
    assert seen.deepest_db == pytest.approx(gain.min(), abs=1e-5) and abs(seen.deepest_frame - gain.argmin()) < 64
    assert not from_above(Trial(take, []), 50).held_db.any()
    for puts_out, gain in (("result", 1.0), ("difference", 0.0)):  # passed by, nothing is held; and nothing was taken
        strip = Track(name="x", chain_on=False, puts_out=puts_out)
        passed = from_above(Trial(take, two, strip=strip), 50)
        assert passed.held_pct == 0.0 and not passed.held_db.any()
        assert passed.peaks.max() == pytest.approx(gain * np.abs(kept(noise)).max(), abs=1e-6)


def test_the_quietest_tenth_of_what_a_gate_silences_is_no_louder_than_it_was():
    """Which of the time counts is said by what comes: else all that is left is what was loud."""
    came = np.repeat([0.001] * 50 + [0.1] * 50, 16)

    closed = np.where(came < 0.01, 0.0, came)

    assert quietest_tenth_db(closed, came) == pytest.approx(-120)
    assert quietest_tenth_db(0.5 * came, came) == pytest.approx(quietest_tenth_db(came) - 6.02, abs=0.01)
