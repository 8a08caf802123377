"""Processors at a multiple of the rate: what folds back is far lower, and nothing else changes."""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.dsp.halfband import REACHES, Doubler, Halver
from reins.core.engine.chain import Chain
from reins.core.engine.entries import chain_latency
from reins.core.processors import PROCESSORS
from reins.core.processors.oversampling import times_of
from reins.core.settings.fields import describe_fields
from reins.errors import SettingsError
from tests.conftest import RATE

# As fast as they go at 10 kHz, where the kinks of the gain fold back most.
FAST = {
    "compressor": {"threshold_db": -30, "ratio": 20, "attack_ms": 0, "release_ms": 1},
    "curve": {"points": [[-60, -60], [-30, -30], [0, -28.5]], "knee_db": 0, "attack_ms": 0, "release_ms": 1},
    "gate": {"threshold_db": -12, "hysteresis_db": 0, "attack_ms": 0, "release_ms": 1, "hold_ms": 0, "range_db": 20},
    "expander": {"threshold_db": -8, "ratio": 20, "attack_ms": 0, "release_ms": 1, "range_db": 20, "knee_db": 0},
    "ducker": {"threshold_db": -30, "amount_db": 20, "down_ms": 0, "back_ms": 1, "hold_ms": 0},
    "deesser": {"threshold_db": -30, "ratio": 20, "attack_ms": 0, "release_ms": 1, "low_hz": 8e3, "high_hz": 12e3},
    "dynamic_eq": {"bands": [{"freq_hz": 1e4, "motion": "compress", "ratio": 20, "attack_ms": 0, "release_ms": 1}]},
    "multiband": {"crossovers_hz": [500], "bands": [{}, {"threshold_db": -30, "attack_ms": 0, "release_ms": 1}]},
    "limiter": {"ceiling_db": -12, "release_ms": 1, "lookahead_ms": 0.5},
}
NOTHING_DB = -95.0  # below the noise of 16 bits: the limiter's gain has no kinks
#: All but those that have no gain which moves by itself, and those that raise the rate for what they bend alone.
OFFERED = [
    k
    for k, kind in PROCESSORS.items()
    if "oversampling" in kind.Settings.model_fields and not kind.Settings.raises_itself
]


def chain_of(kind, settings, channels=1):
    return Chain(
        [parse_entry({"type": kind, "id": "p", "settings": settings}, kind)], channels=channels, sample_rate=RATE
    )


def play(chain, sound, block=1024):
    return np.concatenate([chain.process(sound[:, k : k + block]) for k in range(0, sound.shape[1], block)], axis=1)


def folded_db(kind, settings):
    """What lies below 20 kHz beside a tone near 10 kHz, against the tone."""
    size = 1 << 14
    tone = round(10000 * size / RATE) | 1  # an odd bin: no image falls on a harmonic
    sound = 0.5 * np.sin(2 * np.pi * tone * np.arange(2 * size) / size)[None]
    power = np.abs(np.fft.rfft(play(chain_of(kind, settings), sound)[0, -size:] * np.blackman(size))) ** 2
    bins = np.arange(power.size)
    beside = (bins * RATE / size < 20000) & (np.abs(bins - tone) > 4) & (bins > 4)
    return 10 * np.log10(power[beside].sum() / power[tone - 3 : tone + 4].sum())


@pytest.mark.parametrize("kind", OFFERED)
def test_what_folds_back_lies_twenty_db_lower(kind):
    off, auto = (folded_db(kind, FAST[kind] | {"oversampling": how}) for how in ("off", "auto"))

    times = times_of(chain_of(kind, FAST[kind] | {"oversampling": "auto"}).entries[0].settings)
    assert times == (8 if kind == "limiter" else 16)  # whose attack is its lookahead
    assert auto < max(off - 20.0, NOTHING_DB)


#: Circuits, as quick and as driven as makes their gain follow the waveform.
DRIVEN = {
    "fet": {"input_db": 12, "attack_us": 10, "release_ms": 30, "ratio": 20},
    "optical": {"threshold_db": -40}, "variable_mu": {"threshold_db": -40, "attack_ms": 0.2, "release_ms": 30},
    "three_speed": {"threshold_db": -40, "peaks_db": 6},
}  # fmt: skip


def inharmonic_db(kind, settings):
    """What lies below 20 kHz between the harmonics of a tone near 3 kHz, against the tone."""
    size = 1 << 14
    tone = round(3000 * size / RATE) | 1
    sound = 0.5 * np.sin(2 * np.pi * tone * np.arange(2 * size) / size)[None]
    power = np.abs(np.fft.rfft(play(chain_of(kind, settings), sound)[0, -size:] * np.blackman(size))) ** 2
    bins = np.arange(power.size)
    between = (bins * RATE / size < 20000) & (np.abs((bins + tone / 2) % tone - tone / 2) > 4)
    return 10 * np.log10(power[between & (bins > 20)].sum() / power[tone - 3 : tone + 4].sum())


@pytest.mark.parametrize("kind", [k for k, kind in PROCESSORS.items() if kind.Settings.raised_whole])
def test_a_circuits_gain_is_raised_with_what_it_bends(kind):
    """At the rate of the sound a gain that follows the waveform has tones of its own that belong to nothing."""
    once, eight = (inharmonic_db(kind, DRIVEN[kind] | {"oversampling": times}) for times in (1, 8))

    assert eight < max(once - 20.0, NOTHING_DB), (once, eight)


def test_auto_counts_what_is_driven_into_a_circuit():
    for input_db, operating_db in ((24, 0), (0, 24)):
        driven = {"input_db": input_db, "operating_db": operating_db, "hold_on": False, "oversampling": "auto"}
        assert folded_db("fet", driven) < -75


@pytest.mark.parametrize("kind", OFFERED)
def test_at_rest_it_only_delays_by_what_it_says_however_it_is_cut(kind, noise):
    settings = {"low_hz": 5e3} if kind == "deesser" else {}
    settings |= {"range_db": 0} if kind in ("gate", "expander") else {}
    plain, quiet = chain_of(kind, settings, 2), np.zeros_like(noise)
    spectrum = np.fft.rfft(noise * 1e-3)
    spectrum[:, np.fft.rfftfreq(noise.shape[1], 1 / RATE) > 18000] = 0
    quiet[:] = np.fft.irfft(spectrum, noise.shape[1])
    for times in (2, 4, 8, 16):
        raised = chain_of(kind, settings | {"oversampling": times}, 2)
        late = raised.latency_frames
        assert late == chain_latency(raised.entries, sample_rate=RATE, on_take=False)
        result, before = play(raised, quiet), play(plain, quiet)
        np.testing.assert_array_equal(play(chain_of(kind, settings | {"oversampling": times}, 2), quiet, 333), result)
        lined_up = before[:, plain.latency_frames : -late or None]
        error = result[:, late : late + lined_up.shape[1] - 2000] - lined_up[:, :-2000]
        level = np.abs(np.fft.rfft(error[0])).max() / np.abs(np.fft.rfft(lined_up[0])).max()
        assert level < (0.3 if kind == "multiband" else 1e-4), times  # whose crossovers turn phases by their rate


def test_gains_stand_with_the_sound_they_act_on(noise):
    settings = {"threshold_db": -30, "attack_ms": 5, "release_ms": 50, "rms_pct": 100}
    off, raised = chain_of("compressor", settings, 2), chain_of("compressor", settings | {"oversampling": 8}, 2)
    smooth = np.apply_along_axis(lambda row: np.convolve(row, np.hanning(9) / 4, "same"), 1, noise)  # nothing up there
    gains = []
    for chain in (off, raised):
        chain.process(smooth)
        gains.append(chain.gains()[0][1]["gain_db"][chain.latency_frames :])

    np.testing.assert_allclose(gains[1][:20000], gains[0][:20000], atol=0.05)


def test_a_doubled_and_halved_sound_is_itself_up_to_twenty_kilohertz():
    for stage, reach in enumerate(REACHES):
        up, down = Doubler(1, reach), Halver(1, reach)
        impulse = np.zeros((1, 512))
        impulse[0, 100] = 1.0
        twice = up.process(impulse)
        assert np.abs(np.fft.rfft(twice[0]))[int(512 * 0.55) :].max() < (1e-4 if reach == REACHES[0] else 2.0)
        back = down.process(twice)
        passes = 20000 / 22050 / 2**stage
        np.testing.assert_allclose(np.abs(np.fft.rfft(back[0]))[: int(256 * passes)], 1.0, atol=1e-4)


def test_every_level_driven_type_offers_it_and_is_off_by_itself():
    for kind in OFFERED:
        processor = PROCESSORS[kind]
        (row,) = [row for row in describe_fields(processor.Settings) if row["name"] == "oversampling"]
        assert row["options"] == ["off", 2, 4, 8, 16, "auto"] and row["default"] == "off", kind
        slow = {"attack_ms": 3.0, "release_ms": 3.0} if "attack_ms" in processor.Settings.model_fields else {}
        assert times_of(processor.Settings(**slow, oversampling="auto")) == 1, kind
    with pytest.raises(SettingsError, match="oversampling is 3; allowed"):
        parse_entry({"type": "gate", "settings": {"oversampling": 3}}, "x")
