"""Why here: what a processor heard at one moment of a take, what its curve wanted, what its times let it do. From its
own run up to that moment, and from another whose times are none, which shows what is wanted at once.
"""

from dataclasses import replace
from typing import Any

import numpy as np

from reins.core.processors import PROCESSORS
from reins.core.processors.base import driven_db
from reins.core.processors.detecting import STILL
from reins.core.trials.aims.base import said
from reins.core.trials.running import Trial
from reins.errors import ConflictError

BEFORE_S = 4.0  # heard before the moment
HEARD_S, ABOUT_S = 0.003, 0.01  # what a level is the peak of, and over what loudness is compared
SAME_DB = 0.3
STATES = ("shut", "open", "holding", "closing")  # as dsp.gating numbers them
OPEN = 1
IN_CHARGE = ("nobody", "the body", "the hits", "the peaks")


def why_here(trial: Trial, processor_id: str, at_frame: int) -> dict[str, Any]:
    """at_s, gains_db, wanted_db by name, heard_db, acts_from_db (None where it has no level) and the sentence; for the
    last entry of a trial. ConflictError where there is nothing to ask.
    """
    entry = trial.entries[-1]
    kind, rate = PROCESSORS[entry.type], trial.sound.facts.sample_rate
    if not 0 <= at_frame < trial.sound.facts.frames:
        raise ConflictError("There is no sound at that moment: ask where the take is.")
    if not entry.on:
        raise ConflictError(f"The {kind.label.lower()} is off: it does nothing here.")
    gains, marks, heard_db, moved_db = _at(trial, processor_id, at_frame)
    if not gains:
        raise ConflictError(f"The {kind.label.lower()} holds nothing: it does the same at every moment.")
    still = {name: 0.0 for name in STILL if hasattr(entry.settings, name)}
    still |= {"auto_release": False} if hasattr(entry.settings, "auto_release") else {}
    at_once = entry.model_copy(update={"settings": entry.settings.model_copy(update=still)})
    wanted, *_ = _at(replace(trial, entries=[*trial.entries[:-1], at_once]), processor_id, at_frame)
    acts_from = None
    if kind.line is not None and not getattr(entry.settings, "relative", False):
        acts_from = kind.acts_from_db(entry.settings) + driven_db(entry.settings)
    name = max(gains, key=lambda one: abs(gains[one]))
    told = {
        "at_s": at_frame / rate, "gains_db": _rounded(gains), "wanted_db": _rounded(wanted),
        "moved_db": round(moved_db, 2),
        "heard_db": None if heard_db is None else round(heard_db, 2), "acts_from_db": acts_from,
    }  # fmt: skip
    return told | {"sentence": _sentence(entry.settings, name, gains, wanted, marks, heard_db, acts_from, moved_db)}


def _rounded(gains: dict[str, float]) -> dict[str, float]:
    return {name: round(db, 2) for name, db in gains.items()}


def _at(
    trial: Trial, processor_id: str, at_frame: int
) -> tuple[dict[str, float], dict[str, float], float | None, float]:
    """Gains in dB (the furthest of the last moment) and marks, the level its detector heard, and how much louder what
    leaves it is.
    """
    rate = trial.sound.facts.sample_rate
    begin = max(0, at_frame + 1 - round(BEFORE_S * rate))
    frames, chain = at_frame + 1 - begin, trial.chain()
    # In one block, so that what is heard within the chain is all at hand.
    _, rows = next(iter(trial.run(begin, frames, block_frames=frames + chain.latency_frames, chain=chain)))
    names = [(entry.id, name) for entry, told, _ in chain.gains() for name in told]
    own = {name: row[:frames] for (owner, name), row in zip(names, rows, strict=True) if owner == processor_id}
    short, about = round(HEARD_S * rate), round(ABOUT_S * rate)
    gains = {
        name: float(row[-short:][np.abs(row[-short:]).argmax()])
        for name, row in own.items()
        if name.endswith("gain_db")
    }
    # A gate holds between the peaks of a wave: what it is is what it was most in the last moment.
    marks = {name: float(OPEN if name == "state" and OPEN in row[-short:] else row[-1]) for name, row in own.items()}
    marks = {name: value for name, value in marks.items() if name not in gains}
    heard, around = chain.heard(processor_id), chain.around(processor_id)
    heard_db = None
    if heard is not None and heard.lanes is not None:
        end = frames + heard.latency_frames
        peak = float(np.abs(heard.lanes[:, max(end - short, 0) : end]).max(initial=0.0))
        heard_db = float(20.0 * np.log10(max(peak, 1e-6)))
    moved_db = 0.0
    if around is not None:
        powers = []
        for sound, latency in ((around.before, around.latency_before), (around.after, around.latency_after)):
            end = frames + latency
            powers.append(float(np.mean(sound[:, max(end - about, 0) : end] ** 2)) + 1e-12)
        moved_db = float(10.0 * np.log10(powers[1] / powers[0]))
    return gains, marks, heard_db, moved_db


def _sentence(
    settings: Any, name: str, gains: dict[str, float], wanted: dict[str, float], marks: dict[str, float],
    heard_db: float | None, acts_from: float | None, moved_db: float,
) -> str:  # fmt: skip
    parts = []
    if heard_db is not None and acts_from is not None:
        over = heard_db - acts_from
        where = f"{said(abs(over))} {'over' if over > 0 else 'under'} the {said(acts_from)} from which it acts"
        parts.append(f"The detector heard {said(heard_db)}, {where}")
    elif heard_db is not None:
        parts.append(f"The detector heard {said(heard_db)}")
    got, want = gains[name], wanted.get(name, 0.0)
    whose = "" if name == "gain_db" else f" in {name.removesuffix('.gain_db').replace('band', 'band ')}"
    if "state" in marks:
        parts.append(f"it is {STATES[int(marks['state']) % len(STATES)]}, at {said(max(got, -120.0))}")
    elif abs(got) < 0.05 and abs(want) < 0.05:
        parts.append(f"its curve wants nothing{whose}, and nothing is moved")
    else:
        parts.append(f"its curve wants {said(want)}{whose} and {said(got)} is there{_because(settings, got, want)}")
    if "in_charge" in marks:
        parts.append(
            f"{IN_CHARGE[int(marks['in_charge'])]} {'is' if marks['in_charge'] in (0, 1) else 'are'} in charge"
        )
    heard = f"{said(moved_db)} of it is heard" if moved_db > 0 else f"what is heard is {said(moved_db)}"
    return "; ".join(parts) + f"; {heard}."


def _because(settings: Any, got: float, want: float) -> str:
    if abs(got - want) < SAME_DB:
        return ", all of it"
    if abs(got) < abs(want):
        attack = getattr(settings, "attack_ms", getattr(settings, "down_ms", None))
        return ": the attack" + (f" of {attack:g} ms" if attack is not None else "") + " is still on its way"
    release = getattr(settings, "release_ms", getattr(settings, "back_ms", None))
    return ": hold and release" + (f" of {release:g} ms" if release is not None else "") + " have not let go"
