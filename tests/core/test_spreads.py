"""Spreads: values on a setting's own scale within its limits, tiles from the real processor over what is in view; and
what is laid by the sound it comes to.
"""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from reins.core.measure.levels import measure_source
from reins.core.moves.scales import ways_of
from reins.core.processors import PROCESSORS
from reins.core.trials.laying import SHUT_PCT, USUAL_DB, laid
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span
from reins.core.trials.spreads import Axis, can_spread, measured, spread, tiles, tried
from reins.errors import SettingsError
from tests.conftest import RATE, sound_of


def entry_of(kind, **settings):
    return parse_entry({"id": "p", "type": kind, "settings": settings}, "x")


@pytest.mark.parametrize("kind", PROCESSORS)
def test_every_setting_that_can_be_spread_gives_values_that_may_be_set(kind):
    entry = entry_of(kind, **PROCESSORS[kind].timed_with)
    for path in can_spread(entry.settings):
        (made,) = spread(entry, [Axis(path)])
        way = ways_of(entry.settings)[path]
        assert len(made.values) == len(made.words) == 9
        assert made.values == sorted(made.values) and made.values[0] < made.values[-1]
        assert made.values[0] >= way.low and made.values[-1] <= way.high
    if can_spread(entry.settings):
        trial = Trial(sound_of(np.zeros((1, 100))), [entry])
        path = next(iter(can_spread(entry.settings)))
        for tile in tiles(spread(entry, [Axis(path)])):
            tried(trial, "p", tile)  # each is allowed


def test_two_settings_make_a_square_and_times_go_by_ratio():
    entry = entry_of("compressor", attack_ms=10, release_ms=100)
    axes = spread(entry, [Axis("attack_ms", 1, 100), Axis("release_ms", 50, 800)])

    assert axes[0].values == [1, 10, 100] and axes[1].values == [50, 200, 800]
    made = tiles(axes)
    assert len(made) == 9 and made[5] == {"attack_ms": 10, "release_ms": 800}
    assert axes[0].words == ["1.0 ms", "10.0 ms", "100 ms"]


@pytest.mark.parametrize(
    ("axes", "said"),
    [
        ([], "0 settings"),
        ([Axis("attack_ms"), Axis("attack_ms")], "two different"),
        ([Axis("tuba")], "“tuba” cannot be spread"),
        ([Axis("attack_ms", 100, 1)], "upwards"),
        ([Axis("ratio", 0.1, 4)], "within 1"),
    ],
)
def test_what_cannot_be_spread_says_so(axes, said):
    with pytest.raises(SettingsError, match=said):
        spread(entry_of("compressor"), axes)


def hits(level_db=-6.0, seconds=6):
    """A noise that decays, twice a second, over a quiet bed."""
    rng, at = np.random.default_rng(2), np.arange(seconds * RATE) % (RATE // 2)
    hit = 10.0 ** (level_db / 20.0) * np.exp(-at / (0.05 * RATE))
    return np.ascontiguousarray(rng.standard_normal((1, seconds * RATE)) * 0.3 * (hit + 0.004))


def test_a_tile_is_what_the_processor_does_there():
    entry = entry_of("compressor", threshold_db=-30)
    trial = Trial(sound_of(hits()), [entry])
    figures = {}
    for threshold in (-12.0, -36.0):
        span, figures[threshold] = measured(tried(trial, "p", {"threshold_db": threshold}), "p", RATE, 2 * RATE)
        chain = Chain([entry_of("compressor", threshold_db=threshold)], channels=1, sample_rate=RATE)
        made = chain.process(hits())[:, RATE : 3 * RATE]
        assert figures[threshold]["crest_db"] == pytest.approx(
            measure_source(sound_of(made), 0, made.shape[1]).crest_db, abs=0.05
        )
        gain = chain.gains()[0][1]["gain_db"][RATE : 3 * RATE]
        assert figures[threshold]["deepest_db"] == pytest.approx(gain.min(), abs=0.01)
        assert span.frames == 2 * RATE

    assert figures[-36.0]["usual_db"] < figures[-12.0]["usual_db"]


@pytest.mark.parametrize("kind", PROCESSORS)
@pytest.mark.parametrize("level_db", [-6.0, -30.0])
def test_what_is_added_does_something_at_once(kind, level_db):
    entry = entry_of(kind, **PROCESSORS[kind].added_with)
    trial = Trial(sound_of(hits(level_db)), [entry])
    settings, said = laid(trial)
    if kind in ("colour", "filter", "level", "room", "dynamic_eq", "limiter", "ducker", "make_room", "curve"):
        assert settings == {}  # no level of the sound's to lay, or another's
        return
    span = measure_span(tried(trial, "p", settings), "p", 0, trial.sound.facts.frames)
    done = span.statistics()
    if "states" in PROCESSORS[kind].views:
        assert done["held_pct"] == pytest.approx(SHUT_PCT, abs=12.0)
    else:
        for band in span.bands.values() or [None]:
            usual = abs(done["usual_db"] if band is None else band.statistics(span.frames)["usual_db"])
            at_most = kind == "deesser" and settings["threshold_db"] == pytest.approx(-60.0, abs=0.2)
            assert usual == pytest.approx(USUAL_DB, abs=0.6) or (at_most and usual > 0.3)
            assert "laid for this take" in said


@pytest.mark.parametrize("before", PROCESSORS)
def test_what_is_added_is_laid_behind_any_other(before):
    entries = [entry_of(before, **PROCESSORS[before].added_with), entry_of("compressor")]
    entries[1] = entries[1].model_copy(update={"id": "q"})
    settings, _ = laid(Trial(sound_of(hits()[:, : 2 * RATE]), entries))
    assert -60.0 <= settings["threshold_db"] <= 0.0
