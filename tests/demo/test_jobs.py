"""The guide's jobs are true: each is done on the demo's takes, and the figures its page tells are measured again."""

import re
from functools import cache
from pathlib import Path

import numpy as np
import pytest
import scipy.signal

from reins.core.chainfile import parse_entry, parse_settings, settings_over
from reins.core.engine.chain import Chain
from reins.core.engine.offline import run_chain
from reins.core.laid import reader
from reins.core.pairs import PAIRS, entries_of
from reins.core.processors import PROCESSORS
from reins.core.sessions import Send, Track
from reins.core.settings.fields import describe_fields
from reins.core.starting_points import STARTING_POINTS, find_starting_point
from reins.core.trials.aims import AIMS
from reins.core.trials.promising import laid_as_promised
from reins.core.trials.running import Trial
from reins.demo import drums, strings, voices
from reins.demo.score import RATE
from reins.services import guide
from tests.conftest import sound_of

TEMPLATES = Path(guide.__file__).parents[1] / "web"
PAGES = {job: (guide.FOLDER / f"{job}.md").read_text() for job in guide.JOBS}


@cache
def part(name):
    """A take of the demo; each is made once."""
    if name == "Snare":
        return drums.make_snare(part("Kick"), part("Hats"))
    if name == "Room":
        return drums.make_room(part("Kick"), part("Snare"), part("Hats"))
    makes = {
        "Kick": drums.make_kick, "Hats": drums.make_hats, "Bass": strings.make_bass, "Singer": voices.make_singer,
        "Guitar L": lambda: strings.make_guitar(0), "Announcer": voices.make_announcer,
        "Harmonium": strings.make_harmonium,
    }  # fmt: skip
    return makes[name]()


def played(entries, sound, key=None, **more):
    """(result, deepest gain by frame) of a chain over a take; its key is called k."""
    chain = Chain(
        entries, channels=len(sound), sample_rate=RATE, key_channels={"k": len(key)} if key is not None else {},
        on_take=True, **more,
    )  # fmt: skip
    keys = {"k": reader(sound_of(key), 0)} if key is not None else {}
    blocks = list(run_chain(chain, reader(sound_of(sound), 0), sound.shape[1], block_frames=8192, keys=keys))
    names = [name for _, moving, _ in chain.gains() for name in moving]
    moved = [
        np.concatenate([rows[place] for _, rows in blocks])
        for place, name in enumerate(names)
        if name.endswith("gain_db")
    ]
    made = np.concatenate([result for result, _ in blocks], axis=1)
    return made, np.minimum.reduce(moved) if moved else np.zeros(sound.shape[1])


def from_point(kind, name, sound, key=None):
    settings = dict(find_starting_point(kind, name).settings)
    if key is not None:
        settings["key"] = {**settings.get("key", {}), "source": "k"}
    return played([parse_entry({"type": kind, "settings": settings, "id": "p"}, "x")], sound, key)


def level_db(sound, start_s=0.0, end_s=None):
    part = sound[:, round(start_s * RATE) : None if end_s is None else round(end_s * RATE)]
    return 10 * np.log10((part**2).mean() + 1e-14)


def crest_db(sound):
    return 20 * np.log10(np.abs(sound).max()) - level_db(sound)


def band(sound, low_hz, high_hz):
    return scipy.signal.sosfilt(scipy.signal.butter(4, [low_hz, high_hz], "bandpass", fs=RATE, output="sos"), sound)


def esses():
    singer = part("Singer")
    made, _ = from_point("deesser", "Voice, loud esses", singer)
    before, after = (band(one, *voices.ESS_BAND_HZ) for one in (singer, made))
    syllables = voices.sung_syllables()
    held = [
        level_db(before, s.consonant_s, s.start_s) - level_db(after, s.consonant_s, s.start_s)
        for s in syllables if s.consonant == "s"
    ]  # fmt: skip
    vowels = [
        level_db(singer, s.start_s + 0.05, s.end_s) - level_db(made, s.start_s + 0.05, s.end_s) for s in syllables
    ]
    return [np.mean(held), np.max(np.abs(vowels))]


def level_voice():
    singer = part("Singer")
    made, _ = played(entries_of("Level, then catch", ["x", "y"]), singer)
    spread = []
    for sound in (singer, made):
        levels = [level_db(sound, s.start_s, s.end_s) for s in voices.sung_syllables()]
        spread.append(np.ptp(np.percentile(levels, [10, 90])))
    return spread


def kit():
    return part("Kick") + part("Snare") + 0.5 * part("Hats") + 0.56 * part("Room")


def glue():
    whole = kit()
    made, gain_db = from_point("compressor", "Drum bus, 2:1 and slow", whole)
    return [-np.median(gain_db[gain_db <= -0.5]), crest_db(whole), crest_db(made)]


def close_mics():
    snare = part("Snare")
    made, gain_db = from_point("gate", "Snare, only its own hits", snare)
    hits = drums.snare_hits()
    full = [at for at, strength in hits if strength > -6]
    opened = sum(gain_db[round((at + 0.01) * RATE) : round((at + 0.03) * RATE)].max() > -1 for at in full)
    kicks = [at for at, _ in drums.kick_hits() if all(abs(at - other) > 0.35 for other, _ in hits)]
    between = [level_db(snare, at, at + 0.1) - level_db(made, at, at + 0.1) for at in kicks]
    return [opened, len(full), np.median(between)]


def bass_kick():
    bass = part("Bass")
    made, _ = from_point("ducker", "Bass under kick", bass, part("Kick"))
    at = [hit for hit, _ in drums.kick_hits() if level_db(bass, hit, hit + 0.1) > -50]
    steps = [level_db(bass, hit + 0.02, hit + 0.08) - level_db(made, hit + 0.02, hit + 0.08) for hit in at]
    return [np.median(steps)]


def under_speech():
    _, gain_db = from_point("ducker", "Band under a speaker", part("Harmonium"), part("Announcer"))
    spoken = [(s.consonant_s, s.end_s) for s in voices.spoken_syllables()]
    during = np.concatenate([gain_db[round((a + 0.05) * RATE) : round(b * RATE)] for a, b in spoken])
    long_gaps = [gain_db[round(a * RATE) : round(b * RATE)] for a, b in voices.gaps_s() if b - a > 5]
    return [-np.median(during), max(-gap[-1] for gap in long_gaps)]


def voice_guitars():
    guitars = part("Guitar L")
    made, _ = from_point("make_room", "Guitars under a voice", guitars, part("Singer"))
    before, after = (band(one, 2000, 4000) for one in (guitars, made))
    sung = [level_db(before, s.start_s, s.end_s) - level_db(after, s.start_s, s.end_s) for s in voices.sung_syllables()]
    return [np.median(sung), abs(level_db(guitars, 0.5, 7.0) - level_db(made, 0.5, 7.0))]


def flattened():
    whole = kit()
    flat, _ = played(
        [parse_entry({"type": "limiter", "settings": {"input_db": 12, "ceiling_db": -6}, "id": "p"}, "x")], whole
    )
    raised, _ = from_point("expander", "Drum bus, livelier", flat)
    return [crest_db(whole), crest_db(flat), crest_db(raised)]


def crushed_room():
    room = part("Room")
    made, _ = from_point("fet", "Room microphone, crushed", room)
    return [crest_db(room), crest_db(made)]


def ringing():
    """A whistle planted in the room: how far a narrow band, and fine bands, take it down, and what lies beside it."""
    room = part("Room")
    seconds, told = np.arange(room.shape[1]) / RATE, []
    sound = room + 10 ** (-36 / 20) * np.sin(2 * np.pi * 3150 * seconds)
    narrow = {"bands": [{"freq_hz": 3150, "q": 20, "gain_db": -18}]}
    point = find_starting_point("fine_bands", "A whistle of the room")
    fine = parse_entry({"type": "fine_bands", "settings": point.settings, "id": "p"}, "x")
    by_tones = settings_over(fine, laid_as_promised(Trial(sound_of(sound), [fine]), point).settings)
    for kind, settings in (("dynamic_eq", narrow), ("fine_bands", by_tones)):
        entry = fine.model_copy(update={"type": kind, "settings": parse_settings(kind, settings, "x")})
        made, _ = played([entry], sound)
        tone = [
            abs((one[0, 5 * RATE :] * np.exp(-2j * np.pi * 3150 * seconds[5 * RATE :])).mean()) for one in (sound, made)
        ]
        beside = [level_db(band(one, 1500, 2500), 5) for one in (sound, made)]
        told += [20 * np.log10(tone[0] / tone[1]), beside[0] - beside[1]]
    return told


MEASURES = {
    "job_esses": esses, "job_level_voice": level_voice, "job_glue": glue, "job_close_mics": close_mics,
    "job_bass_kick": bass_kick, "job_under_speech": under_speech, "job_voice_guitars": voice_guitars,
    "job_flattened": flattened, "job_crushed_room": crushed_room, "job_ringing": ringing,
}  # fmt: skip


@pytest.mark.parametrize("job", MEASURES)
def test_what_a_jobs_page_says_was_measured_is_measured_again(job):
    (said,) = re.findall(r"^Measured on the demo.*?(?=\n\n|\Z)", PAGES[job], re.MULTILINE | re.DOTALL)
    told = [float(figure.replace("−", "-")) for figure in re.findall(r"−?\d+(?:\.\d+)?(?= dB| of | full)", said)]
    measured = MEASURES[job]()
    assert len(told) <= len(measured)
    for figure, value in zip(told, measured, strict=False):
        assert figure == pytest.approx(value, abs=0.1), said
    assert all(abs(value) < 0.05 for value in measured[len(told) :])  # what is told without a figure: untouched, wholly


def words_of_the_page():
    """All that can be read at the desk: labels of settings and processors, starting points, and texts of templates."""
    rows = [row for kind in PROCESSORS for _, row in guide.settings_of(kind)]
    rows += [*describe_fields(Track), *describe_fields(Send)]
    words = {row["label"] for row in rows} | {option for row in rows for option in row.get("words", {}).values()}
    words |= {str(option) for row in rows for option in row.get("options", [])}
    words |= {made.label for made in PROCESSORS.values()} | {aim.label for aim in AIMS.values()}
    words |= {point.name for point in STARTING_POINTS} | {pair.name for pair in PAIRS}
    texts = [*TEMPLATES.glob("templates/*.html"), *TEMPLATES.glob("static/js/**/*.js")]
    return words, " ".join(path.read_text() for path in texts)


def test_all_that_a_jobs_page_names_is_there():
    words, texts = words_of_the_page()
    strips = {"Kick", "Snare", "Bass", "Room", "Singer", "Announcer", "Harmonium", "Master", "Guitar%20L"}
    own = {"Too much", "Too little"}
    for job, text in PAGES.items():
        for name in re.findall(r"\*\*?([^*]+)\*\*?", text):
            for part in name.split(" → "):
                assert part in words | strips | own or part in texts, (job, part)
        (strip,) = re.findall(r"\(/sessions/last-boat-home#strip=([^&)]+)&at=\d+", text)
        assert strip in strips, job


def test_every_setting_has_its_place_on_its_page_and_the_index_leads_there():
    for label, pages in guide.index():
        for kind, _, place in pages:
            html = guide.page(kind)
            assert html.count(f'id="{place}"') == 1, (label, kind)
    assert "Looked for as recovery" in guide.page("compressor")
    assert (
        next(one for one in guide.search("recovery") if one.page == "compressor").words
        == "“recovery”: Release, Automatic release"
    )
