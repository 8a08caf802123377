"""Starting points fit the take: one recorded too quiet or too loud is held alike."""

import re

import numpy as np
import pytest
import soundfile

from reins.core.dsp.loudness import LoudnessMeter
from reins.core.engine.chain import Chain
from reins.core.fitting import ANCHORS, laid_on_take
from reins.core.kinds import KINDS
from reins.core.processors import PROCESSORS
from reins.core.processors.make_room import depth_of
from reins.core.starting_points import STARTING_POINTS
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span
from reins.demo import drums, voices
from reins.services.editing import document_of
from tests.conftest import RATE
from tests.core.test_ducking import SECONDS, at_hits, kick
from tests.web.conftest import bring_in
from tests.web.test_web import change


def held_db(house, session_id, track_id):
    """The median of what is held while more than half a dB is."""
    document = document_of(house, session_id)
    chain = document.tracks[track_id].chain
    sound = house.take(document.tracks[track_id].take_id)
    made = Chain(chain, channels=1, sample_rate=RATE, on_take=True)
    made.process(sound.read(0, sound.facts.frames))
    gain = made.gains()[0][1]["gain_db"]
    return float(np.median(gain[gain < -0.5]))


@pytest.mark.parametrize(
    ("kind", "name", "make"),
    [
        ("compressor", "Kick, even hits", drums.make_kick),
        ("compressor", "Voice, even lines", voices.make_singer),
        ("fet", "Voice, close and urgent", voices.make_singer),
    ],
)
def test_a_take_twelve_db_too_quiet_is_held_as_much(client, house, session_id, tmp_path, kind, name, make):
    sound, held, settings = make()[:, 8 * RATE : 18 * RATE], [], []
    if name not in {point.name for point in STARTING_POINTS}:
        name = next(point.name for point in STARTING_POINTS if point.type == kind and point.source == "voice")
    for level_db in (0, -12):
        path = tmp_path / f"take{level_db}.wav"
        soundfile.write(path, (sound * 10 ** (level_db / 20)).T, RATE, subtype="FLOAT")
        track = bring_in(client, session_id, path)["result"]["track_id"]
        change(client, session_id, kind="add_processor", strip_id=track, type=kind, processor_id="p")
        told = change(client, session_id, kind="start_from", strip_id=track, processor_id="p", name=name).json()
        held.append(held_db(house, session_id, track))
        settings.append(document_of(house, session_id).tracks[track].chain[0].settings)

    assert held[0] < -0.8 and held[1] == pytest.approx(held[0], abs=0.5)
    said_db = float(re.search(r"usually −([\d.]+) dB", told["label"])[1])
    assert said_db == pytest.approx(-held[1], abs=0.7)  # it heard some parts of the take
    assert settings[0] != settings[1]


def test_what_follows_another_or_is_relative_stays_and_limits_hold():
    for kind, made in PROCESSORS.items():
        settings = made.Settings()
        assert laid_on_take(kind, settings, 0.0) is settings
        lower = laid_on_take(kind, settings, -90.0)
        made.Settings.model_validate(lower.model_dump())  # within its limits
    gate = PROCESSORS["gate"].Settings
    assert laid_on_take("gate", gate(threshold_db=-30), -12.0).threshold_db == -42
    keyed = gate(threshold_db=-30, key={"source": "k"})
    assert laid_on_take("gate", keyed, -12.0) is keyed
    relative = PROCESSORS["deesser"].Settings(relative=True, threshold_db=-10)
    assert laid_on_take("deesser", relative, -12.0) is relative
    own_mean = PROCESSORS["fine_bands"].Settings(reference="own_mean", threshold_db=8)
    assert laid_on_take("fine_bands", own_mean, -12.0) is own_mean
    curve = laid_on_take("curve", PROCESSORS["curve"].Settings(points=[[-60, -50], [0, -8]]), -12.0)
    assert [tuple(point)[:2] for point in curve.points] == [(-72, -62), (-12, -20)]
    multiband = PROCESSORS["multiband"].Settings(bands=[{"threshold_db": -20}] * 3)
    assert [band.threshold_db for band in laid_on_take("multiband", multiband, -6.0).bands] == [-26] * 3


def test_every_source_of_a_starting_point_has_an_anchor():
    assert {point.source for point in STARTING_POINTS} <= set(ANCHORS)


@pytest.mark.parametrize(
    ("name", "trims"), [("Drum bus, 2:1 and slow", (0, -12)), ("Whole mix, one or two dB", (0, -12))]
)
def test_a_bus_is_fitted_by_what_comes_to_it(client, house, session_id, tmp_path, name, trims):
    soundfile.write(tmp_path / "kick.wav", drums.make_kick()[:, 8 * RATE : 17 * RATE].T, RATE, subtype="FLOAT")
    track = bring_in(client, session_id, tmp_path / "kick.wav")["result"]["track_id"]
    change(client, session_id, kind="add_bus", bus_id="g", name="Drums", members=[track])
    change(client, session_id, kind="add_processor", strip_id="g", type="compressor", processor_id="p")
    thresholds = []
    for trim_db in trims:
        change(client, session_id, kind="set_strip", strip_id=track, values={"trim_db": trim_db})
        told = change(client, session_id, kind="start_from", strip_id="g", processor_id="p", name=name).json()
        thresholds.append(document_of(house, session_id).buses["g"].chain[0].settings.threshold_db)
    assert thresholds[1] - thresholds[0] == pytest.approx(-12, abs=0.3)
    assert re.search(r"usually −[\d.]+ dB, at most", told["label"])


@pytest.mark.parametrize("way", ["drawn", "drawn to one that is there", "starting point"])
def test_however_a_ducker_is_made_its_key_lays_it_and_the_label_says_what_was_measured(
    client, house, session_id, tmp_path, way
):
    ids = {}
    for name, samples in {"kick": 0.1 * kick(0.35), "bass": np.full((1, round(SECONDS * RATE)), 0.25)}.items():
        soundfile.write(tmp_path / f"{name}.wav", samples.T, RATE, subtype="FLOAT")
        ids[name] = bring_in(client, session_id, tmp_path / f"{name}.wav")["result"]["track_id"]
    place = {"strip_id": ids["bass"], "processor_id": "d"}
    key = {"key.source": f"{ids['kick']}/after"}
    if way == "drawn":
        told = change(client, session_id, kind="add_processor", type="ducker", settings=key, lay=True, **place).json()
    else:
        change(client, session_id, kind="add_processor", type="ducker", lay=True, **place)
        last = {"kind": "set_processor", "settings": key, "lay": way != "starting point"}
        told = change(client, session_id, **place, **last).json()
    if way == "starting point":
        told = change(client, session_id, kind="start_from", name="Bass under kick", **place).json()

    document = document_of(house, session_id)
    sounds = {name: house.take(document.tracks[track].take_id) for name, track in ids.items()}
    chain = document.tracks[ids["bass"]].chain
    trial = Trial(sounds["bass"], chain, {f"{ids['kick']}/after": sounds["kick"]})
    frames = sounds["bass"].facts.frames
    made = np.concatenate([block[0] for block, _ in trial.run(0, frames, block_frames=RATE)])
    depth, back, held = at_hits(20 * np.log10(np.maximum(made / 0.25, 1e-6)))
    assert depth == pytest.approx(9, abs=1)
    assert back >= 0.8
    assert held < 0.65
    said_db, said_pct = re.search(r"([\d.]+) dB down in the first 80 ms .* held (\d+) % of", told["label"]).groups()
    assert float(said_db) == pytest.approx(depth, abs=0.2)
    assert float(said_pct) == pytest.approx(100 * held, abs=2)


def between(low_hz, high_hz, seed, seconds=6):
    """Noise between two frequencies that comes and goes each second."""
    spectrum = np.fft.rfft(np.random.default_rng(seed).standard_normal(seconds * RATE))
    hz = np.fft.rfftfreq(seconds * RATE, 1 / RATE)
    made = np.fft.irfft(np.where((hz > low_hz) & (hz < high_hz), spectrum, 0))
    return (0.1 * made / made.std() * np.sin(np.pi * np.arange(made.size) / RATE) ** 2)[None]


@pytest.mark.parametrize("fights", [True, False])
def test_room_is_made_where_the_two_fight_not_where_a_table_has_it(client, house, session_id, tmp_path, fights):
    ids, voice_hz = {}, (250, 700) if fights else (4000, 8000)
    for name, samples in {"guitar": between(200, 900, 1), "voice": between(*voice_hz, 2)}.items():
        soundfile.write(tmp_path / f"{name}.wav", samples.T, RATE, subtype="FLOAT")
        ids[name] = bring_in(client, session_id, tmp_path / f"{name}.wav")["result"]["track_id"]
    place = {"strip_id": ids["guitar"], "processor_id": "m"}
    key = {"key.source": f"{ids['voice']}/after"}
    change(client, session_id, kind="add_processor", type="make_room", settings=key, **place)

    told = change(client, session_id, kind="start_from", name="Guitars under a voice", **place).json()

    settings = document_of(house, session_id).tracks[ids["guitar"]].chain[0].settings
    if fights:
        assert 150 <= settings.from_hz <= 300 and 600 <= settings.to_hz <= 1000
        assert re.search(r"where they fight, \d+ Hz to .*: usually −\d", told["label"])
    else:
        assert (settings.from_hz, settings.to_hz) == (1000, 5000) and "next to nothing to do" in told["label"]


def test_a_fights_room_is_made_in_all_regions_each_as_deep_as_they_fight_there(client, house, session_id, tmp_path):
    ids = {}
    seldom = between(2500, 5000, 4) * (np.arange(6 * RATE) // RATE % 3 == 0)
    sounds = {"guitar": between(200, 900, 1) + between(2500, 5000, 3), "voice": between(250, 700, 2) + seldom}
    for name, samples in sounds.items():
        soundfile.write(tmp_path / f"{name}.wav", samples.T, RATE, subtype="FLOAT")
        ids[name] = bring_in(client, session_id, tmp_path / f"{name}.wav")["result"]["track_id"]
    settings = {"key.source": f"{ids['voice']}/after", "amount_db": -9.0}
    at = {"strip_id": ids["guitar"], "processor_id": "m"}
    told = change(client, session_id, kind="add_processor", type="make_room", settings=settings, lay=True, **at).json()

    made = document_of(house, session_id).tracks[ids["guitar"]].chain[0].settings
    often, sometimes, between_them = depth_of(made, np.array([450.0, 3500.0, 1500.0]))
    assert often == 1.0 and 0.25 <= sometimes < 0.75 and between_them < 0.1
    assert re.search(r"where they fight, .* and .* by \d+ % of the amount: usually −\d", told["label"])


@pytest.mark.parametrize("level", [1.0, 0.1])
def test_an_expander_turned_round_lays_itself_under_the_tips(client, house, session_id, tmp_path, level):
    """With what it had it came 19 dB louder."""
    sound = kick(0.35)
    sound *= level * 0.97 / np.abs(sound).max()
    soundfile.write(tmp_path / "kick.wav", sound.T, RATE, subtype="FLOAT")
    track = bring_in(client, session_id, tmp_path / "kick.wav")["result"]["track_id"]
    place = {"strip_id": track, "processor_id": "e"}
    change(client, session_id, kind="add_processor", type="expander", lay=True, **place)

    told = change(client, session_id, kind="set_processor", settings={"direction": "up"}, **place).json()

    chain = document_of(house, session_id).tracks[track].chain
    assert (chain[0].settings.ratio, chain[0].settings.range_db) == (1.3, 6.0)
    take = house.take(document_of(house, session_id).tracks[track].take_id)
    made = Chain(chain, channels=1, sample_rate=RATE, on_take=True).process(take.read(0, take.facts.frames))
    meters = [LoudnessMeter(sample_rate=RATE) for _ in range(2)]
    for meter, samples in zip(meters, (take.read(0, take.facts.frames), made), strict=True):
        meter.feed(samples)
    louder = meters[1].integrated_lufs() - meters[0].integrated_lufs()
    assert 0.1 < louder <= 2.0 or chain[0].settings.output_db < 0.0
    assert np.abs(made).max() <= 1.0
    assert "tips come up by" in told["label"]
    again = change(client, session_id, kind="set_processor", settings={"direction": "up", "ratio": 3.0}, **place).json()
    assert "tips" not in again["label"]


def test_what_is_added_to_the_master_stands_before_its_last_limiter_and_is_laid_there(
    client, house, session_id, tmp_path
):
    """Behind it, it would pass what the limiter holds."""
    soundfile.write(tmp_path / "kick.wav", kick(0.35).T, RATE, subtype="FLOAT")
    bring_in(client, session_id, tmp_path / "kick.wav")
    for number, kind in enumerate(("limiter", "compressor", "colour")):
        added = {"strip_id": "master", "type": kind, "processor_id": str(number), "lay": True}
        assert change(client, session_id, kind="add_processor", **added).status_code == 200

    chain = document_of(house, session_id).master.chain
    assert [entry.type for entry in chain if entry.id in "012"] == ["compressor", "colour", "limiter"]
    compressor = next(entry for entry in chain if entry.type == "compressor")
    assert compressor.settings.threshold_db != type(compressor.settings)().threshold_db


@pytest.mark.parametrize("to", [kind for kind in KINDS if kind != "compressor"])
def test_another_kind_is_as_deep_and_as_loud_on_this_take_and_back_is_where_one_began(
    client, house, session_id, tmp_path, to
):
    soundfile.write(tmp_path / "voice.wav", 0.7 * voices.make_singer()[:, : 12 * RATE].T, RATE, subtype="FLOAT")
    track = bring_in(client, session_id, tmp_path / "voice.wav")["result"]["track_id"]
    place = {"strip_id": track, "processor_id": "p"}
    change(client, session_id, kind="add_processor", type="compressor", settings={"threshold_db": -31.3}, **place)

    def did():
        document = document_of(house, session_id)
        take = house.take(document.tracks[track].take_id)
        span = measure_span(Trial(take, document.tracks[track].chain), "p", 0, take.facts.frames)
        told = span.statistics()
        return document.tracks[track].chain[0], [told["usual_db"], told["deepest_db"], span.result.integrated_lufs]

    (began, before) = did()
    told = change(client, session_id, kind="change_kind", type=to, **place).json()
    other, after = did()

    assert other.type == to
    allowed = 2.0 if "cannot" in told["label"] else 1.0
    assert abs(after[0] - before[0]) <= allowed and abs(after[1] - before[1]) <= allowed
    assert after[2] == pytest.approx(before[2], abs=0.5)
    assert f"usually {after[0]:.1f} dB".replace("-", "−") in told["label"]
    assert ("cannot have an attack" in told["label"]) == (to == "optical")
    change(client, session_id, kind="change_kind", type="compressor", **place)
    assert did()[0] == began


@pytest.mark.parametrize("frames", [1, 5000])
def test_a_take_without_a_loudness_is_told_none(client, session_id, tmp_path, frames):
    soundfile.write(tmp_path / "tick.wav", np.full((frames, 1), 0.5), RATE, subtype="FLOAT")
    track = bring_in(client, session_id, tmp_path / "tick.wav")["result"]["track_id"]
    place = {"strip_id": track, "processor_id": "e"}
    change(client, session_id, kind="add_processor", type="expander", **place)

    told = change(client, session_id, kind="set_processor", settings={"direction": "up"}, **place)

    assert told.status_code == 200 and "tips come up by" in told.json()["label"] and "LU" not in told.json()["label"]


def test_a_ducker_with_two_long_keys_hears_both_at_the_same_moments(client, session_id, tmp_path):
    ids = {}
    for name in ("kick", "other", "bass"):
        samples = np.tile(0.1 * kick(0.35), (1, 6)) if name == "kick" else np.full((1, RATE), 1e-3)
        soundfile.write(tmp_path / f"{name}.flac", samples.T, RATE, subtype="PCM_16")
        ids[name] = bring_in(client, session_id, tmp_path / f"{name}.flac")["result"]["track_id"]
    keys = {"key.source": f"{ids['kick']}/after", "key.also": [{"source": f"{ids['other']}/after", "gain_db": 0.0}]}
    place = {"strip_id": ids["bass"], "processor_id": "d", "type": "ducker"}

    told = change(client, session_id, kind="add_processor", settings=keys, lay=True, **place)

    assert told.status_code == 200, told.text
    said = re.search(r"heard in parts of it.*: ([\d.]+) dB down", told.json()["label"])
    assert float(said[1]) == pytest.approx(9.0, abs=1.0)


def test_a_rein_by_a_key_is_laid_by_that_unless_floor_or_ceiling_are_given(client, house, session_id, tmp_path):
    soundfile.write(tmp_path / "Kick.wav", 0.1 * kick(0.2)[0], RATE, subtype="PCM_24")
    soundfile.write(tmp_path / "Pad.wav", np.full(RATE, 0.1), RATE, subtype="PCM_24")
    key, pad = (bring_in(client, session_id, tmp_path / f"{one}.wav")["result"]["track_id"] for one in ("Kick", "Pad"))

    def put(rein_id, **by):
        rein = {
            "moves": [{"what": "strip.fader_db", "to": -12}],
            "by": {"kind": "key", "key": {"source": f"{key}/after"}} | by,
        }
        answer = change(client, session_id, kind="put_rein", strip_id=pad, rein_id=rein_id, rein=rein).json()
        reins = document_of(house, session_id).tracks[pad].reins
        return answer["label"], next(one.by for one in reins if one.id == rein_id)

    label, laid = put("a")
    assert "laid by what it follows: nearly all the way" in label
    assert -36 < laid.ceiling_db < -24 and 6 <= laid.ceiling_db - laid.floor_db <= 24
    assert put("b", floor_db=-40.0)[1].floor_db == -40.0
    label, as_set = put("a", floor_db=-55.0, ceiling_db=laid.ceiling_db)
    assert as_set.floor_db == -55.0 and "laid" not in label
    filtered = {"source": f"{key}/after", "low_cut_hz": 40.0}  # the same key, heard otherwise
    label, stays = put("a", floor_db=-55.0, ceiling_db=laid.ceiling_db, key=filtered)
    assert stays.floor_db == -55.0 and "laid" not in label


@pytest.mark.parametrize("way", ["added", "pulled"])
def test_a_band_that_begins_to_move_is_laid_by_its_region(client, house, session_id, tmp_path, way):
    soundfile.write(tmp_path / "Voice.wav", voices.make_singer()[0, 8 * RATE : 16 * RATE], RATE, subtype="PCM_24")
    track = bring_in(client, session_id, tmp_path / "Voice.wav")["result"]["track_id"]
    moving = {"motion": "compress", "range_db": 6.0}
    at = {"strip_id": track, "processor_id": "p"}
    bands = {"bands": [{"freq_hz": 2500.0} | (moving if way == "added" else {})]}
    told = change(client, session_id, kind="add_processor", type="dynamic_eq", settings=bands, lay=True, **at)
    if way == "pulled":
        told = change(
            client, session_id, kind="set_processor", settings={f"bands.0.{k}": v for k, v in moving.items()}, **at
        )

    label, band = told.json()["label"], document_of(house, session_id).tracks[track].chain[0].settings.bands[0]
    assert band.threshold_db != -30.0 and band.motion == "compress"
    usual = float(re.search(r"laid by what is there: usually −([\d.]+) dB", label)[1])
    assert usual >= 0.5
    client.post(f"/api/sessions/{session_id}/undo")
