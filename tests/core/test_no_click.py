"""No setting of any processor clicks while sound runs: every one is thrown from end to end under a steady tone."""

import copy
import functools

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.engine.mixer import Mixer
from reins.core.processors import PROCESSORS
from reins.core.sessions import Document, Track
from reins.core.settings.fields import describe_fields
from reins.core.time import Stream
from reins.errors import SettingsError
from tests.conftest import RATE, sound_of

CHANGE_AT, SECONDS = 0.2, 0.4
BLOCK = 4800
STEEPEST, SPLATTER_DB = 1.5, -60.0
# At work at the tone's level; all else at its default.
AT_WORK = {
    "gate": {"threshold_db": -30.0}, "expander": {"threshold_db": -6.0}, "limiter": {"ceiling_db": -14.0},
    "deesser": {"threshold_db": -40.0, "low_hz": 700.0, "high_hz": 2000.0},
    "dynamic_eq": {
        "bands": [{"freq_hz": 100.0, "motion": "compress", "threshold_db": -30.0}, {"freq_hz": 900.0, "gain_db": 6.0}],
        "rest": {"on": True, "threshold_db": -30.0},
    },
    "colour": {"drive_db": 9.0},
    "curve": {"points": [[-60.0, -60.0], [-30.0, -30.0], [0.0, -20.0]]},
    "fine_bands": {"threshold_points": [[1000.0, -30.0]], "lift_ratio": 1.5},
    "make_room": {"amount_db": -9.0},
    "fet": {"input_db": 6.0, "attack_us": 5000.0},
    "three_speed": {"threshold_db": -30.0, "peaks_db": -24.0},  # held at once, peaks of a low tone are corners
    "room": {"decay_s": 0.15, "mix_pct": 50.0},
    "level": {"gain_db": -6.0, "sides_pct": 120.0},
    "filter": {"low_cut_hz": 200.0, "tilt_db": 3.0, "high_shelf_db": -3.0},
    "multiband": {"bands": [{"threshold_db": -30.0}, {"threshold_db": -30.0}, {}]},
}  # fmt: skip


def base(kind):
    own = AT_WORK.get(kind, {"threshold_db": -30.0})
    return parse_entry({"id": "p", "type": kind, "settings": own}, kind).settings.model_dump()


def values_of(row):
    if row["kind"] == "choice":
        return row["options"]
    return [row["low"], row["high"]] if row["kind"] == "number" else []


def changes(kind):
    """(dotted name, value) of every setting at each of its ends; bands by the first and second of theirs."""
    for row in describe_fields(PROCESSORS[kind].Settings):
        yield from ((row["name"], value) for value in values_of(row) if value != "own_mean")  # of a take that is kept
        for band in (0, 1) if row["name"] == "bands" else ():
            yield from ((f"bands.{band}.{f['name']}", v) for f in row["fields"] for v in values_of(f))
    if kind == "multiband":
        yield from (("crossovers_hz", hz) for hz in ([60.0, 1000.0], [900.0, 8000.0]))
    yield "on", False


def with_value(kind, name, value):
    raw = base(kind)
    place, parts = raw, name.split(".")
    for part in parts[:-1]:
        place = place[int(part)] if isinstance(place, list) else place[part]
    place[parts[-1]] = float(value) if type(value) is int and name.split(".")[-1][-6:] != "_slope" else value
    return raw


def document(kind, settings, on=True):
    if kind == "make_room":  # does nothing without another to follow
        settings = settings | {"key": settings.get("key", {}) | {"source": "u/after"}}
    entry = parse_entry({"id": "p", "type": kind, "settings": settings, "on": on}, kind)
    tracks = {"t": Track(name="T", take_id="a", chain=[entry]), "u": Track(name="U", take_id="a", mute=True)}
    return Document(name="x", sample_rate=RATE, tracks=tracks, order=["t", "u"])


@functools.cache
def tone(hz):
    t = np.arange(round((SECONDS + 0.5) * RATE)) / RATE
    return 0.25 * np.sin(2 * np.pi * hz * t) * np.ones((2, 1))


def begun(hz, first):
    """A mixer that has come to CHANGE_AT, and what it has made."""
    mixer = Mixer(first, {"a": sound_of(tone(hz))})
    mixer.start(Stream(0))
    return mixer, [mixer.process(BLOCK)[0] for _ in range(round(CHANGE_AT * RATE) // BLOCK)]


def twin(begins, document):
    """Another that goes on by itself; what is fixed is shared, which is most of it."""
    track = document.tracks["t"]
    fixed = (document, track, document.master, *track.chain, *(entry.settings for entry in track.chain))
    return copy.deepcopy(begins, {id(thing): thing for thing in fixed})


def heard(begins, then=None):
    """The mix around CHANGE_AT, where what has begun changes to `then`."""
    mixer, before = begins
    if then is not None:
        mixer.change(then)
    blocks = [mixer.process(BLOCK)[0] for _ in range(round((SECONDS - CHANGE_AT) * RATE) // BLOCK)]
    return np.concatenate([*before, *blocks])[round((CHANGE_AT - 0.1) * RATE) : round((CHANGE_AT + 0.2) * RATE)]


def splatter_db(sound, hz):
    """What lies above eight times the tone, against all, in dB."""
    window = np.blackman(sound.size)
    power = np.abs(np.fft.rfft(sound * window)) ** 2
    above = power[int(np.ceil(8.0 * hz * sound.size / RATE)) + 4 :].sum()
    return 10.0 * np.log10(max(above, 1e-30) / max(power.sum(), 1e-20))


def problem(moving, hz, still):
    """What is wrong with a change, beside what settings at rest make of the tone; None where nothing is."""
    # The tone's own steepest step, as loud as it gets; or what the settings at rest make of it.
    own = np.abs(moving).max() * 2.0 * np.sin(np.pi * hz / RATE)
    own = max(own, *(np.abs(np.diff(sound)).max() for sound in still))
    steepest = np.abs(np.diff(moving)).max() / max(own, 1e-9)
    allowed = max(SPLATTER_DB, *(splatter_db(sound, hz) + 3.0 for sound in still))
    splatter = splatter_db(moving, hz)
    wrong = steepest > STEEPEST or splatter > allowed
    return f"{steepest:.2f} times, {splatter:.0f} dB ({allowed:.0f})" if wrong else None


@pytest.mark.parametrize("kind", PROCESSORS)
def test_every_setting_moves_without_a_click(kind):
    problems = []
    start = document(kind, base(kind))
    begins = {hz: begun(hz, start) for hz in (60.0, 1000.0)}
    starts = {hz: heard(twin(one, start)) for hz, one in begins.items()}
    for name, value in changes(kind):
        try:
            other = (
                document(kind, base(kind), on=False) if name == "on" else document(kind, with_value(kind, name, value))
            )
        except SettingsError:
            continue
        if other == start or name == "match_loudness":  # that measures a take on disk; see test_by_frequency
            continue
        if (name, value) == ("predelay_ms", 250.0):  # with it the tone begins within what is looked at
            continue
        for hz in (60.0, 1000.0):
            for after in (other, start):
                moving = heard(twin(begins[hz], start) if after is other else begun(hz, other), after)
                # What the other settings at rest make of the tone only allows more: it is heard where that is needed.
                still = lambda hz=hz, other=other: [starts[hz], heard(begun(hz, other))]  # noqa: E731
                if problem(moving, hz, [starts[hz]]) and (told := problem(moving, hz, still())):
                    problems.append(f"{name} {'to' if after is other else 'from'} {value} at {hz:g} Hz: {told}")

    assert problems == [], "\n".join(problems)
