"""What is too much is said with a cure of one step; what lies near it is not."""

from dataclasses import replace

import numpy as np
import pytest

from reins.core.chainfile import parse_entry, parse_settings, settings_over
from reins.core.finding.marks import Marks
from reins.core.trials.overmuch import too_much
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span
from tests.conftest import RATE, sound_of

SECONDS = 6
T = np.arange(SECONDS * RATE) / RATE


def noise(level=1.0, seed=1):
    return level * np.random.default_rng(seed).standard_normal(T.size)


def hits(soft=0.3, every=0.5, bleed=0.0):
    """Strokes, each fourth of them soft, over something else."""
    made = noise(bleed)
    for number, at in enumerate(np.arange(0.3, SECONDS - 0.3, every)):
        first = round(at * RATE)
        rest = T[: T.size - first]
        made[first:] += (soft if number % 4 == 3 else 0.5) * np.exp(-rest / 0.04) * noise(0.4, number)[first:]
    return made[None]


def bass(hz=55):
    notes = 0.35 + 0.25 * (np.sin(2 * np.pi * 0.5 * T) > 0)
    return (notes * np.sin(2 * np.pi * hz * T))[None]


def speaking(gap=0.5):
    """Words between pauses over a quiet room."""
    words = (np.sin(2 * np.pi * 0.5 * T) > gap - 0.5) * (0.02 + 0.98 * np.sin(2 * np.pi * 3 * T) ** 4)
    return (0.3 * words * sum(np.sin(2 * np.pi * 150 * k * T) / k for k in range(1, 9)) + noise(2e-4))[None]


def told(kind, samples, settings, keys=None):
    entry = parse_entry({"id": "p", "type": kind, "settings": settings}, "x")
    trial = Trial(sound_of(samples), [entry], {name: sound_of(key) for name, key in (keys or {}).items()})
    span = measure_span(trial, "p", 0, samples.shape[1])
    return too_much(trial, "p", span, lambda: Marks.of(trial.sound)), trial


def cured(found, trial):
    """What is said once the cure is taken."""
    entry = trial.entries[0]
    settings = parse_settings(entry.type, settings_over(entry, found.settings), "x")
    trial = replace(trial, entries=[entry.model_copy(update={"settings": settings})])
    span = measure_span(trial, "p", 0, trial.sound.facts.frames)
    return too_much(trial, "p", span, lambda: Marks.of(trial.sound))


GATE = {"attack_ms": 0.1, "release_ms": 20, "range_db": 40, "rms_pct": 0}


def test_strokes_that_a_gate_loses_are_counted_and_it_opens_for_them():
    found, trial = told("gate", hits(soft=0.05), GATE | {"threshold_db": -20, "hold_ms": 50})
    assert found.said == "2 of 11 hits do not get through."
    assert found.cure.startswith("Threshold −")
    assert cured(found, trial) is None
    assert told("gate", hits(soft=0.05), GATE | {"threshold_db": -45, "hold_ms": 50})[0] is None


def test_a_gate_that_opens_with_every_wave_is_told_to_hold():
    found, trial = told("gate", bass(), GATE | {"threshold_db": -10, "hold_ms": 0, "release_ms": 1, "hysteresis_db": 0})
    openings, per_s = (int(part.replace(",", "")) for part in (found.said.split()[2], found.said.split()[4]))
    assert openings > 300 and per_s == pytest.approx(openings / SECONDS, abs=0.5)
    assert found.settings["hold_ms"] >= 60
    assert cured(found, trial) is None
    quick = GATE | {"threshold_db": -20, "hold_ms": 30}
    assert told("gate", hits(every=0.2), quick)[0] is None  # five a second, and as many hits


def test_what_holds_nearly_all_that_sounds_is_told_by_how_much():
    firm = {"ratio": 4, "attack_ms": 10, "release_ms": 200, "knee_db": 3}
    found, trial = told("compressor", speaking(), firm | {"threshold_db": -50})
    share = float(found.said.split("for ")[1].split(" %")[0])
    assert share > 90 and "hardly ever lets go" in found.said
    assert cured(found, trial) is None
    assert told("compressor", speaking(), firm | {"threshold_db": -12})[0] is None


def test_low_notes_that_distort_are_told_the_release_that_ends_it():
    quick = {"threshold_db": -14, "ratio": 8, "attack_ms": 1, "release_ms": 10, "knee_db": 0, "rms_pct": 0}
    found, trial = told("compressor", bass(), quick)
    assert "waves of low notes" in found.said and float(found.said.split(": ")[1].split(" %")[0]) > 3
    assert found.settings["release_ms"] > 10
    after = cured(found, trial)
    assert after is None or "waves" not in after.said
    slow = told("compressor", bass(), quick | {"release_ms": 250, "attack_ms": 20})[0]
    assert slow is None or "waves" not in slow.said
    high = told("compressor", bass(2000), quick)[0]
    assert high is None or "waves" not in high.said


def test_the_third_harmonic_is_what_is_called_distortion():
    """Measured by a transform: harmonics against the tone."""
    quick = {"threshold_db": -14, "ratio": 8, "attack_ms": 1, "release_ms": 10, "knee_db": 0, "rms_pct": 0}
    steady = (0.6 * np.sin(2 * np.pi * 55 * T))[None]
    found, trial = told("compressor", steady, quick)
    made = np.concatenate([b[0].copy() for b, _ in trial.run(0, T.size, block_frames=4800)])[RATE : 5 * RATE]
    spectrum = np.abs(np.fft.rfft(made * np.hanning(made.size)))
    lines = [spectrum[round(4 * 55 * k) - 2 : round(4 * 55 * k) + 3].max() for k in range(1, 12)]
    thd = 100 * np.sqrt(sum(line**2 for line in lines[1:])) / lines[0]
    said = float(found.said.split(": ")[1].split(" %")[0])
    assert said == pytest.approx(thd, rel=0.5)  # some of what it adds lies on the tone itself


def test_makeup_that_lifts_the_room_is_taken_back():
    shy = {"threshold_db": -12, "ratio": 3, "attack_ms": 5, "release_ms": 80}
    found, trial = told("compressor", speaking(), shy | {"output_db": 16})
    assert found.said.startswith("It lifts the quietest tenth by 1")
    assert cured(found, trial) is None
    assert told("compressor", speaking(), shy | {"output_db": 6})[0] is None
    made_up, _ = told("compressor", speaking(), shy | {"makeup_db": 16})
    assert made_up.cure.startswith("Makeup") and 0 <= made_up.settings["makeup_db"] < 8


def test_a_ducker_that_is_only_a_fader_is_laid_by_its_key():
    key = {"k": speaking()}
    down = {"key": {"source": "k"}, "amount_db": 9, "down_ms": 5, "back_ms": 300}
    found, _ = told("ducker", bass(), down | {"threshold_db": -60, "floor_db": -90}, {"k": noise(0.1)[None]})
    assert "only a fader" in found.said and found.lay and found.settings == {"key.source": "k"}
    assert told("ducker", bass(), down | {"threshold_db": -30, "floor_db": -40}, key)[0] is None


def test_room_made_all_along_is_made_more_narrowly():
    key = {"k": 0.5 * hits()}
    room = {"key": {"source": "k"}, "amount_db": -9}
    found, _ = told("make_room", noise(0.1)[None], room | {"margin_db": 40}, {"k": noise(0.1, 3)[None]})
    assert "only a fader" in found.said and found.settings == {"margin_db": 4.0}
    assert told("make_room", speaking(), room, key)[0] is None


@pytest.mark.parametrize("kind", ["gate", "compressor", "expander", "limiter"])
def test_silence_and_what_is_off_are_told_nothing(kind):
    assert told(kind, np.zeros((1, T.size)), {})[0] is None


def test_what_listens_to_another_as_well_is_looked_at_with_it():
    key = {"source": "self", "also": [{"source": "k", "gain_db": 0.0}]}
    quick = {"threshold_db": -50, "ratio": 8, "attack_ms": 1, "release_ms": 10, "rms_pct": 0, "key": key}
    found, _ = told("compressor", bass(), quick, {"k": speaking()})
    assert found is not None and found.said
