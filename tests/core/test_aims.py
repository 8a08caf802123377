"""Aims on the demo's takes: what was asked for is got, on quieter and louder ones alike; what cannot be is said."""

import itertools
import json
import re
from dataclasses import replace

import numpy as np
import pytest
import scipy.signal
import soundfile
from typer.testing import CliRunner

from reins.cli import app
from reins.core.chainfile import parse_chain, parse_entry
from reins.core.engine.chain import Chain
from reins.core.finding.marks import Marks
from reins.core.laid import LaidTake
from reins.core.processors import PROCESSORS
from reins.core.sessions import Track
from reins.core.struck import StruckSound, map_of
from reins.core.time import Beat
from reins.core.trials.aims import AIMS, Work
from reins.core.trials.running import Trial
from reins.demo import drums, strings, voices
from reins.demo.score import RATE
from reins.errors import ConflictError, InputError
from reins.services.aiming import proposed
from tests.conftest import sound_of


@pytest.fixture(scope="module")
def parts():
    kick, hats = drums.make_kick(), drums.make_hats()
    snare = drums.make_snare(kick, hats)
    return {
        "kick": kick, "hats": hats, "snare": snare, "room": drums.make_room(kick, snare, hats),
        "singer": voices.make_singer(), "announcer": voices.make_announcer(), "bass": strings.make_bass(),
    }  # fmt: skip


def aimed(name, take, asked=0.0, kind=None, key=None, **given):
    aim = AIMS[name]
    kind = kind or aim.types[0]
    settings = {k: v for k, v in aim.base.items() if k in PROCESSORS[kind].Settings.model_fields}
    settings |= given | ({} if key is None else {"key": {"source": "k"}})
    entry = parse_entry({"id": "p", "type": kind, "settings": settings}, "x")
    keys = {} if key is None else {"k": key}
    work = Work(Trial(take, [entry], keys, Beat(96)), Marks.of(take), asked, None if key is None else Marks.of(key))
    return work, proposed(aim, work)


def gain_of(work, proposal, key=None, name="k"):
    """The gain of the processor as proposed, frame by frame, by a chain of its own."""
    sound = work.trial.sound.read(0, work.trial.sound.facts.frames)
    channels = {} if key is None else {name: key.facts.channels}
    entry = work.with_settings(proposal.settings)
    chain = Chain([entry], channels=sound.shape[0], sample_rate=RATE, key_channels=channels, on_take=True)
    late = chain.latency_frames
    more = np.zeros((sound.shape[0], late))
    keys = {} if key is None else {name: np.pad(key.read(0, sound.shape[1]), ((0, 0), (0, late)))}
    out = chain.process(np.concatenate([sound, more], axis=1), keys)[:, late:]
    told = {name: row[late:] for name, row in chain.gains()[0][1].items() if name.endswith("gain_db")}
    return out, told


@pytest.mark.parametrize("kind", AIMS["hits"].types)
def test_hits_are_held_by_as_much_as_asked_and_let_go_before_the_next(make_take, parts, kind):
    work, proposal = aimed("hits", make_take(parts["kick"]), 4.0, kind)
    _, told = gain_of(work, proposal)
    hits = drums.kick_hits()
    loud = [at for at, db in hits if db >= np.median([db for _, db in hits])]
    gain = told["gain_db"]

    depths = [-gain[round(at * RATE) : round((at + 0.09) * RATE)].min() for at in loud]
    assert np.median(depths) == pytest.approx(4.0, abs=0.5) and proposal.reached
    left = [-gain[round(at * RATE) - 200] for at, _ in hits[1:]]
    assert np.median(left) < 0.6
    assert work.runs <= 36 and proposal.reason.startswith("66 hits")


@pytest.mark.parametrize(
    ("name", "part", "asked"), [("hits", "snare", 6.0), ("within", "singer", 6.0), ("esses", "singer", 6.0)]
)
def test_a_quieter_or_louder_take_ends_alike(make_take, parts, name, part, asked):
    got = []
    for level_db in (0.0, -12.0, 6.0):
        sound = parts[part][:, 12 * RATE : 30 * RATE] * 10 ** (level_db / 20)
        got.append(aimed(name, make_take(sound, f"take{level_db}"), asked)[1].figures["got_db"])

    assert np.abs(np.array(got) - asked).max() < 0.5 and np.ptp(got) < 0.5


def test_quiet_and_shouted_lines_come_to_lie_within(make_take, parts):
    work, proposal = aimed("within", make_take(parts["singer"]), 6.0)
    out, _ = gain_of(work, proposal)

    windows = [out[:, at : at + 19200] for at in range(0, out.shape[1] - 19200, 4800)]
    sung = np.abs(parts["singer"][0]) > 1e-4
    levels = [
        10 * np.log10(np.mean(part**2))
        for k, part in enumerate(windows)
        if sung[k * 4800 : k * 4800 + 19200].mean() > 0.8
    ]
    low, high = np.quantile(levels, [0.1, 0.95])
    assert high - low == pytest.approx(6.0, abs=1.0) and proposal.figures["came_db"] > 12


def test_a_line_on_the_fader_does_the_same_and_leaves_pauses_alone(make_take, parts):
    spoken = parts["announcer"].copy()
    spoken[:, 20 * RATE :] *= 10 ** (-14 / 20)
    _, proposal = aimed("ride", make_take(spoken), 4.0)
    pauses = [(begin + 0.2, end - 0.2) for begin, end in voices.gaps_s() if end - begin > 0.6]
    at, gain = zip(*[(point[0], point[1]) for point in proposal.line], strict=True)

    assert proposal.reached and list(at) == sorted(at) and np.ptp(gain) > 1.0
    assert all(np.interp(np.linspace(a, b, 20), at, gain) == pytest.approx(0.0, abs=0.01) for a, b in pauses)


def test_the_snares_gate_opens_on_every_hit_and_on_nothing_else(make_take, parts):
    work, proposal = aimed("open", make_take(parts["snare"]))
    _, told = gain_of(work, proposal)
    gain = told["gain_db"]

    def opens(at):
        return gain[round(at * RATE) : round((at + 0.02) * RATE)].max() > -3

    assert all(opens(at) for at, _ in drums.snare_hits()) and proposal.reached
    hits = np.array([at for at, _ in drums.snare_hits()])
    kicks = [
        at
        for at, _ in drums.kick_hits()
        if (at - hits[hits < at]).min(initial=9.0) > 0.5 and np.abs(hits - at).min() > 0.1
    ]
    assert kicks and not any(opens(at) for at in kicks)
    assert proposal.figures["given_up"] == 0


def test_soft_hits_under_what_bleeds_in_are_given_up_and_counted(make_take, parts):
    snare = parts["snare"] + 10 ** (-14 / 20) * parts["kick"]  # the kick louder than the ghosts
    _, proposal = aimed("open", make_take(snare))

    figures = proposal.figures
    assert figures["opened"] >= 60 and figures["opened"] + figures["given_up"] == figures["hits"]
    assert proposal.reached == (not figures["given_up"] and not figures["opened_on_others"])
    assert ("given up" in proposal.reason) == bool(figures["given_up"])


def test_where_soft_hits_lie_under_the_bleed_there_are_ways_out_each_counted(make_take, parts):
    """Strokes of one sound: soft ones quieter than a neighbour of nearly the same sound."""
    made = parts["snare"] + 0.3 * parts["kick"]
    work, proposal = aimed("open", LaidTake(make_take(np.clip(made, -1, 1)), Track(name="Snare")))
    assert proposal.figures["given_up"], proposal.reason
    ways = {way.name: way for way in proposal.ways}

    assert list(ways) == ["lose", "let", "lean", "marks"]
    assert proposal.settings == ways["lose"].settings
    assert len(proposal.figures["soft_s"]) == proposal.figures["given_up"]
    assert ways["let"].figures["opened"] > ways["lose"].figures["opened"]
    assert ways["let"].figures["others"] > 0 and str(ways["let"].figures["others"]) in ways["let"].reason
    assert ways["lean"].settings["range_db"] == 8.0
    json.dumps([vars(way) for way in proposal.ways])  # the page is told them
    gain = gain_of(work, replace(proposal, settings=ways["lean"].settings))[1]["gain_db"]
    lower = [-gain[round(at * RATE) : round((at + 0.03) * RATE)].max() for at in proposal.figures["soft_s"]]
    assert max(lower) == pytest.approx(ways["lean"].figures["soft_lower_db"], abs=0.5)

    by_marks = ways["marks"].figures
    assert by_marks["opened"] == by_marks["hits"] and by_marks["others"] == 0, ways["marks"].reason
    struck = StruckSound(map_of(work.marks.hits, work.trial.sound.facts), work.trial.sound.facts, ahead_ms=2.0)
    gain = gain_of(work, replace(proposal, settings=ways["marks"].settings), struck, "hits:2")[1]["gain_db"]
    opens = [gain[round((hit.at_s + 0.002) * RATE) : round((hit.at_s + 0.02) * RATE)].min() for hit in work.marks.hits]
    assert min(opens) > -1.0  # from the beginning of each hit on
    assert np.mean(gain < -50) > 0.3


@pytest.mark.parametrize("kind", ["gate", "expander"])
def test_pauses_become_silent_and_no_word_is_cut(make_take, parts, kind):
    work, proposal = aimed("silence", make_take(parts["announcer"]), 20.0, kind)
    _, told = gain_of(work, proposal)

    between = [told["gain_db"][round((a + 0.6) * RATE) : round(b * RATE)] for a, b in voices.gaps_s() if b - a > 1.5]
    assert np.median(np.concatenate(between)) == pytest.approx(-20.0, abs=0.5) and proposal.reached
    for one in voices.spoken_syllables():
        vowel = told["gain_db"][round((one.start_s + 0.03) * RATE) : round((one.end_s - 0.03) * RATE)]
        assert vowel.min() > -3.0


def test_esses_are_held_by_as_much_as_asked(make_take, parts):
    take = make_take(parts["singer"])
    work, proposal = aimed("esses", take, 6.0)
    out, _ = gain_of(work, proposal)
    band = scipy.signal.butter(4, [3500, 15500], "bandpass", fs=RATE, output="sos")
    before, after = (scipy.signal.sosfilt(band, sound[0]) for sound in (parts["singer"], out))
    taken = []
    for one in voices.sung_syllables():
        if one.consonant in ("s", "sh"):
            part = slice(round(one.consonant_s * RATE), round(one.start_s * RATE))
            taken.append(10 * np.log10(np.mean(before[part] ** 2) / np.mean(after[part] ** 2)))

    assert np.median(taken) == pytest.approx(6.0, abs=0.7) and proposal.reached
    assert proposal.settings["low_hz"] == pytest.approx(6000, rel=0.12)
    assert proposal.settings["high_hz"] == pytest.approx(9000, rel=0.12)


def test_what_vowels_lose_is_measured_on_vowels_and_not_on_the_room_between_words(parts):
    """With a room heard in every pause, of which nothing is taken: it must not count as what stays bright."""
    sung = np.pad(parts["singer"], ((0, 0), (0, 5 * RATE)))
    low = scipy.signal.butter(1, 400.0, fs=RATE, output="sos")
    room = scipy.signal.sosfilt(low, np.random.default_rng(3).standard_normal(sung.shape))
    sound = sung + 0.01 * np.abs(sung).max() / room.std() * room
    work, proposal = aimed("esses", sound_of(sound), 9.0)
    out, _ = gain_of(work, proposal)
    treble = scipy.signal.butter(4, [4000, 12000], "bandpass", fs=RATE, output="sos")
    before, after = (scipy.signal.sosfilt(treble, one[0]) for one in (sound, out))
    lost = []
    for one in voices.sung_syllables():
        part = slice(round(one.start_s * RATE), round(one.end_s * RATE))
        lost.append(10 * np.log10(np.mean(before[part] ** 2) / np.mean(after[part] ** 2)))

    # Somewhat too much may be said, where an ess ends within a frame, but hardly too little.
    assert -0.25 < proposal.figures["dulled_db"] - np.median(lost) < 0.5, proposal.reason


def test_bands_are_held_alike(make_take, parts):
    take = make_take(parts["room"][:, : 12 * RATE])
    plain, leaned = (aimed("bands", take, 3.0, **given) for given in ({}, {"lean_highs_db": 9.0}))
    for work, proposal in (plain, leaned):
        got = [value for name, value in proposal.figures.items() if name.startswith("band")]
        assert got == pytest.approx([3.0] * 4, abs=0.5) and proposal.reached and work.runs <= 10
    # A line that leaned stands level again, and what was found is the same.
    assert leaned[1].settings == plain[1].settings | {"lean_highs_db": 0.0}


@pytest.mark.parametrize(("key", "kind_of"), [("announcer", "phrase"), ("kick", "hits")])
def test_a_track_steps_back_while_another_sounds_and_ignores_its_background(make_take, parts, key, kind_of):
    key_take = make_take(parts[key], "key")
    work, proposal = aimed("duck", make_take(parts["bass"], "bass"), 9.0, key=key_take)
    _, told = gain_of(work, proposal, key_take)

    sounds = [(one.start_s, one.end_s) for one in voices.spoken_syllables()] if key == "announcer" else [
        (at + 0.01, at + 0.05) for at, db in drums.kick_hits() if db > -6
    ]  # fmt: skip
    held = [told["gain_db"][round((a + 0.02) * RATE) : round(b * RATE)] for a, b in sounds]
    assert np.median(np.concatenate(held)) == pytest.approx(-9.0, abs=0.7) and kind_of in proposal.reason
    if key == "announcer":  # its room's noise never stops
        pause = told["gain_db"][20 * RATE : 30 * RATE]
        assert pause.min() > -0.1


def test_what_cannot_be_wanted_is_a_sentence(make_take, parts):
    t = np.arange(3 * RATE) / RATE
    silence, drone = make_take(np.zeros((1, 3 * RATE)), "s"), make_take(0.2 * np.sin(2 * np.pi * 110 * t)[None], "d")
    hiss = make_take(0.1 * np.random.default_rng(1).standard_normal((1, 3 * RATE)), "n")
    short = make_take(parts["kick"][:, 2 * RATE : 2 * RATE + 4000], "t")
    one = make_take(parts["kick"][:, round(2.45 * RATE) : round(2.9 * RATE)], "one")
    for name, take, kind, asked, sentence in (
        ("hits", silence, None, 4.0, "The take is silent"),
        ("hits", short, None, 4.0, "too short"),
        ("hits", drone, None, 4.0, "this wants at least two"),
        ("hits", one, None, 4.0, "Found one hit"),
        ("open", drone, None, 0.0, "this wants at least two"),
        ("silence", hiss, None, 20.0, "Found no pauses"),
        ("esses", drone, None, 6.0, "Found no sibilants"),
        ("within", one, None, 6.0, "Found no phrases"),
        ("hits", drone, "gate", 4.0, "is for Compressor"),
        ("duck", drone, None, 9.0, "choose its key first"),
        ("hits", drone, None, 90.0, "allowed: 0.5 to 24 dB"),
    ):
        with pytest.raises(ConflictError, match=sentence):
            aimed(name, take, asked, kind)
    with pytest.raises(ConflictError, match="The key is silent"):
        aimed("duck", drone, 9.0, key=silence)


def test_what_is_out_of_reach_is_said_with_the_closest_there_is(make_take, parts):
    _, proposal = aimed("hits", make_take(parts["kick"] * 10 ** (-50 / 20)), 20.0)

    assert not proposal.reached and proposal.figures["got_db"] < 19 and proposal.reason.startswith("Not by 20.0 dB")


def call(*words):
    return CliRunner().invoke(app, ["aim", *map(str, words)])


def test_the_command_writes_the_chain_and_prints_why(tmp_path, parts):
    soundfile.write(tmp_path / "kick.wav", parts["kick"].T, RATE, subtype="FLOAT")
    soundfile.write(tmp_path / "key.wav", parts["announcer"].T, RATE, subtype="FLOAT")
    run = call("hits", tmp_path / "kick.wav", "-o", tmp_path / "c.json", "--by", 4, "--json")
    assert run.exit_code == 0, run.output
    told = json.loads(run.output)

    assert told["aim"] == "hits" and told["figures"]["reached"] is True and told["reason"].endswith(".")
    assert len(told["marks"]["hits_s"]) == 66 and set(told["marks"]) == {"hits_s", "phrases_s", "sibilants_s"}
    assert told["tempo_bpm"] == pytest.approx(96, abs=0.5)
    assert json.loads((tmp_path / "c.json").read_text()) == told["chain"]
    assert parse_chain((tmp_path / "c.json").read_text(), "c").entries[0].settings.release_ms < 300

    run = call("duck", tmp_path / "kick.wav", "--key", tmp_path / "key.wav", "-o", tmp_path / "d.json")
    assert run.exit_code == 0 and "9.0 dB down while it sounds" in run.output
    assert parse_chain((tmp_path / "d.json").read_text(), "d").entries[0].settings.key.source == "key"
    run = call("ride", tmp_path / "key.wav", "--within", 1, "-o", tmp_path / "r.json")
    assert run.exit_code == 0 and parse_chain((tmp_path / "r.json").read_text(), "r").reins[0].by.kind == "line"


@pytest.mark.parametrize(
    ("words", "sentence"),
    [
        (["nothing", "kick.wav"], "There is no aim “nothing”; allowed: hits"),
        (["hits", "none.wav"], "cannot be opened"),
        (["hits", "kick.wav", "--within", "3"], "--within is not asked for by “hits”; allowed: --by"),
        (["open", "kick.wav", "--by", "3"], "allowed: no number"),
        (["hits", "kick.wav", "--type", "gate"], "“hits” allows: compressor"),
        (["hits", "kick.wav", "--by", "-3"], "allowed: 0.5 to 24 dB"),
        (["hits", "kick.wav", "--tempo", "0"], "allowed: 20 to 400"),
        (["hits", "kick.wav", "-o", "nowhere/c.json"], "cannot be written there"),
    ],
)
def test_wrong_words_are_a_sentence_and_write_nothing(tmp_path, parts, monkeypatch, words, sentence):
    monkeypatch.chdir(tmp_path)
    soundfile.write("kick.wav", parts["kick"][:, : 8 * RATE].T, RATE)
    run = call(*words)

    assert isinstance(run.exception, InputError) and sentence in str(run.exception)
    assert [path.name for path in tmp_path.iterdir()] == ["kick.wav"]


def kick_work(kind="compressor", asked=0.0, **settings):
    sound = sound_of(drums.make_kick()[:, : 20 * RATE])
    entry = parse_entry({"id": "p", "type": kind, "settings": settings}, "x")
    return Work(Trial(sound, [entry], beat=Beat(96.0)), Marks.of(sound), asked)


@pytest.mark.parametrize("kind", ["compressor", "variable_mu", "limiter"])
@pytest.mark.parametrize("beats", [0.0, 0.5])
def test_back_in_time_is_the_slowest_release_that_has_let_go(kind, beats):
    more = {"ceiling_db": -14} if kind == "limiter" else {"threshold_db": -24}
    work = kick_work(kind, beats, **more)
    made = AIMS["back"].propose(work)
    release = made.figures["release_ms"]

    assert made.reached and made.figures["left_pct"] <= 10.0
    if release < 0.9 * work.within("release_ms", 1e9):
        slower = {**made.settings, "release_ms": 1.4 * release}
        marks = work.marks
        ends = [b.at_s for _, b in itertools.pairwise(marks.hits)] if not beats else None
        did = work.run(slower)
        if ends is not None:
            held = [-did.highest_db[int(at * marks.frames.per_s) - 1] for at in ends]
            deep = [-did.lowest_db[int(h.at_s * marks.frames.per_s) :][:8].min() for h in marks.hits[:-1]]
            assert np.median(np.array(held) / np.maximum(deep, 0.5)) > 0.08


def test_what_cannot_be_back_says_so():
    turned_slow = AIMS["back"].propose(kick_work("fet", input_db=18))  # a kick that rings is a note to it
    assert not turned_slow.reached and turned_slow.reason.startswith("Not back by the next hit")
    with pytest.raises(ConflictError, match="holds nothing"):
        AIMS["back"].propose(kick_work(threshold_db=0))
    with pytest.raises(ConflictError, match="shorter note"):
        AIMS["back"].propose(kick_work(asked=8.0, threshold_db=-30))


@pytest.mark.parametrize("name", ["within", "ride"])
def test_nothing_passes_full_scale_where_the_source_did_not_and_that_is_said(name):
    """A quiet line with one loud stroke, and a loud line: to bring the quiet one up lifts the stroke too far."""
    t = np.arange(6 * RATE) / RATE
    sound = np.where(t < 3.0, 0.04, 0.4) * np.sin(2 * np.pi * 300 * t) * (np.abs(t - 3.0) > 0.3) * (t > 0.3)
    sound[2 * RATE : 2 * RATE + 60] = 0.7
    take = sound_of(sound[None])
    aim = AIMS[name]
    trial = Trial(take, [parse_entry({"id": "p", "type": aim.types[0], "settings": aim.base}, "x")])
    work = Work(trial, Marks.of(take), 3.0)

    proposal = proposed(aim, work)

    if proposal.line is None:
        peak = work.run(proposal.settings).peak.max()
    else:
        at, db = zip(*((at, db) for at, db, _ in proposal.line), strict=True)
        peak = np.abs(sound * 10 ** (np.interp(t, at, db) / 20)).max()
    assert 0.9 < peak <= 1.0
    assert f"comes down by {proposal.figures['down_db']:.1f} dB" in proposal.reason
    assert proposal.figures["down_db"] > 0.2


def test_a_hits_sentence_says_what_peaks_and_beginnings_lost(make_take, parts):
    work, proposal = aimed("hits", make_take(parts["kick"]), 4.0)
    out, _ = gain_of(work, proposal)
    lost = []
    for hit in work.marks.hits:
        span = slice(round((hit.at_s - 0.01) * RATE), round((hit.at_s + 0.08) * RATE))
        lost.append(20 * np.log10(np.abs(parts["kick"][0, span]).max() / np.abs(out[0, span]).max()))

    assert proposal.figures["peaks_lost_db"] == pytest.approx(np.median(lost), abs=0.2)
    said = re.search(r"peaks lose ([\d.]+) dB and the first 80 ms ([\d.]+) dB", proposal.reason).groups()
    assert float(said[0]) == pytest.approx(np.median(lost), abs=0.2)
    assert float(said[1]) == pytest.approx(proposal.figures["first_lost_db"], abs=0.06)
