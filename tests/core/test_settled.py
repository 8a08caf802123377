"""What comes in is settled, what repeats fades at its seam, what failed is passed by, what cannot be read is silent."""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.dsp.levels import is_finite
from reins.core.engine.chain import Chain
from reins.core.engine.mixer import Mixer
from reins.core.engine.offline import render_mix
from reins.core.processors import PROCESSORS
from reins.core.sessions import Bus, Document, Draft, Master, Track
from reins.core.time import SEAM_MS, Stream
from reins.errors import StorageError
from tests.conftest import RATE, sound_of

SLOW = {"threshold_db": -30, "ratio": 8, "attack_ms": 300, "release_ms": 900}
BLOCK = 1024


def entry(settings=SLOW, on=True, kind="compressor", name="p"):
    return parse_entry({"id": name, "type": kind, "settings": settings, "on": on}, kind)


def bass(seconds=8.0, hz=55.0):
    return 0.5 * np.sin(2 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)[None]


def document(where, chain, **strip):
    tracks = {"t": Track(name="T", take_id="a", bus="b", chain=chain if where == "t" else [])}
    buses = {"b": Bus(name="B", chain=chain if where == "b" else [])}
    if where in ("t", "b"):
        place = tracks if where == "t" else buses
        place[where] = place[where].model_copy(update=strip)
    master = Master(chain=chain if where == "master" else [], **(strip if where == "master" else {}))
    return Document(name="x", sample_rate=RATE, tracks=tracks, order=["t"], buses=buses, bus_order=["b"], master=master)


def play(first, then, seconds=7.0, at=4.0):
    mixer = Mixer(first, {"a": sound_of(bass())})
    mixer.start(Stream(0))
    blocks = []
    for start in range(0, round(seconds * RATE), BLOCK):
        if start == round(at * RATE / BLOCK) * BLOCK:
            mixer.change(then)
        blocks.append(mixer.process(BLOCK)[0])
    return np.concatenate(blocks)


def loudness_db(sound, at):
    """RMS over each of the next 30 periods."""
    frames = round(RATE / 55)
    first = round(at * RATE / BLOCK) * BLOCK + BLOCK  # the fade is over
    return np.array(
        [10 * np.log10(np.mean(sound[k : k + frames] ** 2)) for k in range(first, first + 30 * frames, frames)]
    )


@pytest.mark.parametrize("where", ["t", "b", "master"])
def test_what_is_switched_on_or_added_comes_in_settled(where):
    always = loudness_db(play(document(where, [entry()]), document(where, [entry()])), 4.0)
    for before in ([], [entry(on=False)]):
        heard = loudness_db(play(document(where, before), document(where, [entry()])), 4.0)
        assert np.abs(heard - always).max() < 0.5


@pytest.mark.parametrize("where", ["t", "b", "master"])
def test_a_draft_is_heard_as_it_would_be_by_itself(where):
    loud, soft = entry(SLOW | {"threshold_db": -50}), entry(SLOW | {"threshold_db": -12})
    first = document(where, [loud], draft=1, drafts={"2": Draft(chain=[soft])})
    other = document(where, [soft], draft=2, drafts={"1": Draft(chain=[loud])})
    always = loudness_db(play(other, other), 4.0)

    heard = loudness_db(play(first, other), 4.0)

    assert np.abs(heard - always).max() < 0.5


def splatter_db(sound):
    power = np.abs(np.fft.rfft(sound * np.blackman(sound.size))) ** 2
    return 10 * np.log10(power[round(2000 * sound.size / RATE) :].sum() / power.sum())


def test_a_loop_fades_over_its_seam_and_every_pass_is_alike():
    loop = (round(0.3 * RATE), round(0.6013 * RATE))  # where the tone stands elsewhere in its period
    mixer = Mixer(document("t", []), {"a": sound_of(bass(2.0, 97.0))})
    mixer.start(Stream(0, loop, round(SEAM_MS * RATE / 1000)))
    heard = np.concatenate([mixer.process(480)[0] for _ in range(240)])
    length = loop[1] - loop[0]

    seam = heard[loop[1] - 2048 : loop[1] + 2048]
    assert splatter_db(seam) < -45
    second, third = (heard[loop[1] + k * length : loop[1] + (k + 1) * length] for k in (0, 1))
    np.testing.assert_array_equal(second, third)
    plain = heard[: loop[1] - round(0.004 * RATE)]
    np.testing.assert_allclose(plain, 0.5 * np.sin(2 * np.pi * 97 * np.arange(plain.size) / RATE) * heard[100] / (
        0.5 * np.sin(2 * np.pi * 97 * 100 / RATE)), atol=1e-6)  # fmt: skip


def test_a_steep_cut_that_jumps_does_not_dip():
    def eq(hz):
        return [entry({"low_cut_hz": hz, "low_cut_slope": 48}, kind="dynamic_eq")]

    t = np.arange(4 * RATE) / RATE
    tone = {"a": sound_of(0.5 * np.sin(2 * np.pi * 300 * t)[None])}
    for first, then in ((20.0, 120.0), (120.0, 20.0), (0.0, 120.0), (120.0, 0.0)):
        mixer = Mixer(document("t", eq(first)), tone)
        mixer.start(Stream(0))
        blocks = []
        for start in range(0, 2 * RATE, 480):
            if start == RATE:
                mixer.change(document("t", eq(then)))
            blocks.append(mixer.process(480)[0])
        heard = np.concatenate(blocks)[round(0.9 * RATE) : round(1.5 * RATE)]
        levels = 10 * np.log10(np.mean(heard[: heard.size // 320 * 320].reshape(-1, 320) ** 2, axis=1))
        assert levels.max() - levels.min() < 3.0, (first, then)


@pytest.mark.parametrize(
    "kind", ["compressor", "expander", "ducker", "deesser", "limiter", "multiband", "dynamic_eq", "rest"]
)
def test_automatic_release_lowers_what_a_steady_low_distorts_and_lets_go_after_a_lone_hit(kind):
    settings = {
        "compressor": {"threshold_db": -30, "ratio": 8, "attack_ms": 1, "release_ms": 20},
        "expander": {"threshold_db": -10, "ratio": 4, "knee_db": 0, "attack_ms": 1, "release_ms": 20, "range_db": 20,
                     "direction": "up"},
        "ducker": {"threshold_db": -30, "amount_db": 12, "down_ms": 1, "hold_ms": 0, "back_ms": 20},
        "deesser": {"threshold_db": -30, "ratio": 8, "attack_ms": 1, "release_ms": 20, "low_hz": 100, "high_hz": 300,
                    "act_on": "whole"},
        "limiter": {"ceiling_db": -18, "release_ms": 20, "true_peak": False},
        "multiband": {"crossovers_hz": [300.0], "bands": [{"threshold_db": -30, "ratio": 8, "attack_ms": 1,
                                                           "release_ms": 20}, {}]},
        "dynamic_eq": {"bands": [{"freq_hz": 50, "q": 0.5, "motion": "compress", "threshold_db": -30, "ratio": 8,
                                  "range_db": 24, "attack_ms": 1, "release_ms": 20}]},
        "rest": {"rest": {"on": True, "threshold_db": -30, "ratio": 8, "attack_ms": 1, "release_ms": 20}},
    }[kind]  # fmt: skip
    part = {"multiband": "bands", "dynamic_eq": "bands", "rest": "rest"}.get(kind)
    hz = 150 if kind == "deesser" else 50
    if kind == "deesser":
        settings["release_ms"] = 7

    def made(auto):
        if part is None:
            values = settings | {"auto_release": auto}
        elif part == "rest":
            values = {"rest": settings["rest"] | {"auto_release": auto}}
        else:
            values = settings | {"bands": [band | {"auto_release": auto} for band in settings["bands"]]}
        return Chain([entry(values, kind="dynamic_eq" if kind == "rest" else kind)], channels=1, sample_rate=RATE)

    def distortion_db(auto):
        chain = made(auto)
        out = chain.process(bass(6.0, hz))[0, -RATE:]
        power = np.abs(np.fft.rfft(out)) ** 2
        return 10 * np.log10(power[2 * hz :: hz][:20].sum() / power[hz])

    def back_ms(auto):
        chain = made(auto)
        hit = np.zeros((1, RATE))
        hit[0, 4800:5760] = bass(0.02, hz)[0, :960] if kind != "deesser" else bass(0.02, 150)[0, :960]
        chain.process(hit)
        gain = np.abs(np.max([np.abs(row) for row in chain.gains()[0][1].values()], axis=0))
        over = np.flatnonzero(gain > 0.3 * gain.max())
        return 1000 * (over[-1] - gain.argmax()) / RATE

    assert distortion_db(False) - distortion_db(True) > 10
    assert back_ms(True) < back_ms(False) + 15


def test_a_gate_closes_quickly_behind_a_lone_hit_and_slowly_after_a_long_passage():
    def closing_ms(open_s, auto):
        settings = {"threshold_db": -40, "hold_ms": 0, "release_ms": 100, "range_db": 60, "auto_release": auto}
        chain = Chain([entry(settings, kind="gate")], channels=1, sample_rate=RATE)
        sound = np.concatenate([bass(open_s, 500.0), np.zeros((1, 2 * RATE))], axis=1)
        chain.process(sound)
        gain = chain.gains()[0][1]["gain_db"][round(open_s * RATE) :]
        return 1000 * np.flatnonzero(gain <= -59.9)[0] / RATE

    assert closing_ms(0.03, False) == pytest.approx(closing_ms(3.0, False), abs=5)
    assert closing_ms(0.03, True) < closing_ms(0.03, False) * 1.5
    assert closing_ms(3.0, True) > 3 * closing_ms(3.0, False)


class Spoilt:
    """A processor that makes no numbers, or fails, after a while."""

    def __init__(self, inner, how):
        self.__dict__.update(inner.__dict__)
        self.inner, self.how, self.blocks = inner, how, 0
        self.latency_frames, self.gains_db, self.marks, self.key_heard = inner.latency_frames, {}, {}, None

    def process(self, block):
        self.blocks += 1
        if self.how == "fails" and self.blocks >= 3:
            raise ZeroDivisionError
        spoilt = {"nan": np.nan, "inf": np.inf}.get(self.how, 1.0) if self.blocks >= 3 else 1.0
        return spoilt * np.repeat(block.sound, type(self.inner).channels_out(None, 1), axis=0)


@pytest.mark.parametrize("how", ["nan", "inf", "fails"])
@pytest.mark.parametrize("kind", PROCESSORS)
def test_a_processor_that_makes_no_sound_is_passed_by_named_and_said(kind, how):
    chain = Chain([entry({}, kind=kind), entry(name="q")], channels=1, sample_rate=RATE)
    chain._stages[0].processor = Spoilt(chain._stages[0].processor, how)

    out = np.concatenate([chain.process(bass(0.2)[:, k : k + 960]) for k in range(0, 9600, 960)], axis=1)

    assert is_finite(out) and np.abs(out[0, -960:]).max() > 0.01
    (sentence,) = chain.failures.values()
    assert sentence.startswith(f"{PROCESSORS[kind].label}, processor 1 of its chain") and "passed by" in sentence


def test_samples_that_are_no_numbers_never_leave():
    chain = Chain([entry()], channels=1, sample_rate=RATE)
    sound = bass(0.1)
    sound[0, 100] = np.nan
    sound[0, 2000] = np.inf
    assert is_finite(chain.process(sound)) and "no numbers" in chain.failures["source"]
    assert is_finite(chain.process(bass(0.1)))


class Missing:
    facts = sound_of(np.zeros((1, 8 * RATE))).facts

    def read(self, start, frames):
        raise StorageError("its recording was cut short")


def test_a_recording_that_cannot_be_read_is_silent_and_named_and_the_rest_plays_on():
    tracks = {"t": Track(name="Voice", take_id="gone"), "u": Track(name="Bass", take_id="a")}
    both = Document(name="x", sample_rate=RATE, tracks=tracks, order=["t", "u"])
    mixer = Mixer(both, {"gone": Missing(), "a": sound_of(bass())})
    mixer.start(Stream(0))
    heard = mixer.process(4800)

    assert np.abs(heard).max() > 0.3
    (sentence,) = set(mixer.graph.failures().values())
    assert "Voice" in sentence and "cut short" in sentence
    alone = both.model_copy(update={"tracks": {"u": tracks["u"]}, "order": ["u"]})
    expected = next(render_mix(Mixer(alone, {"a": sound_of(bass())}), 0, 4800, block_frames=4800))
    np.testing.assert_array_equal(heard, expected)
