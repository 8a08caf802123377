"""Settings of the multiband, and the line that is leaned over its bands; see multiband.py for their meaning."""

import itertools
import math
from types import SimpleNamespace
from typing import Any, Literal

import numpy as np
from pydantic import Field, field_validator, model_validator

from reins.core.processors.curves import FLAT_RATIO
from reins.core.processors.detecting import KeyedSettings
from reins.core.settings import usual
from reins.core.settings.describing import choice, listed, number
from reins.core.settings.models import MisfitError, Strict

MOST_BANDS = 6
LEAST_STEP = 2.0 ** (1.0 / 3.0) - 1e-3  # a third of an octave, as two or as ten to the three tenths has it


BOUND_STEP = 2.0 ** (1.0 / 3.0)

COLUMNS = {
    "on": "on", "mute": "mute", "solo": "solo", "direction": "mode", "threshold_db": "threshold", "ratio": "ratio",
    "knee_db": "knee", "range_db": "reach", "attack_ms": "attack", "hold_ms": "hold", "release_ms": "release",
    "auto_release": "auto", "rms_pct": "average", "gain_db": "gain", "grit_pct": "grit",
}  # fmt: skip


class MultibandBand(Strict):
    """Settings of one band."""

    on: bool = choice(True, label="On", group="Band", help="Off, the band passes as it comes.")
    mute: bool = choice(False, label="Mute", group="Band", help="Silences the band.")
    solo: bool = choice(False, label="Solo", group="Band", help="Only soloed bands are heard.")
    direction: Literal["compress", "expand_down", "expand_up", "lift"] = choice(
        "compress", label="Mode", group="Band",
        help="Compresses what is loud, expands what is quiet downward or what is loud upward, or lifts the quiet.",
        words={"compress": "compress", "expand_down": "expand down", "expand_up": "expand up", "lift": "lift quiet"},
    )  # fmt: skip
    threshold_db: float = usual.threshold_db(0.0, "The level in this band from which it moves.")
    ratio: float = usual.ratio(
        2.0, "How many dB in make one dB out above the threshold; expanding, how many dB come out for one."
    )
    knee_db: float = usual.knee_db(0.0, "How gently it sets in around the threshold.")
    range_db: float = usual.range_db(60.0, "The most this band may ever move; 60 means no limit to holding.")
    soft_range: bool = usual.soft_range()
    attack_ms: float = usual.attack_ms(10.0, "How long until it has moved.")
    hold_ms: float = usual.hold_ms(0.0, "How long it stays before it goes back.")
    release_ms: float = usual.release_ms(120.0, "How long it takes to go back; lows want longer than highs.")
    auto_release: bool = usual.auto_release()
    rms_pct: float = usual.share_pct(
        0.0, "0 catches peaks, 100 follows the average over 10 ms.", group="Time", label="Average"
    )
    gain_db: float = usual.gain_db(0.0, "Level of this band after it has been moved.", group="Out", label="Gain")
    grit_pct: float = usual.share_pct(
        0.0, "Bends what is made of this band: harmonics of it, without level.", label="Grit", group="Out", moves=False
    )

    @property
    def acts_below(self) -> bool:
        """Whether what lies below its threshold is what it changes."""
        return self.direction in ("expand_down", "lift")


LEANS = ("lean_lows_db", "lean_middle_db", "lean_highs_db")
LEAN_HZ = (100.0, 1000.0, 8000.0)


def _lean(label: str, where: str) -> Any:
    return number(
        0.0, -18, 18, label=label, unit="dB", group="Lean", step=0.5, scale="db",
        help=f"Leaning up at the {where} end, bands there act from lower and are made up for it.",
    )  # fmt: skip


class MultibandSettings(KeyedSettings):
    """Settings of the multiband processor."""

    crossovers_hz: list[float] = Field(
        default=[200.0, 2500.0], min_length=1, max_length=MOST_BANDS - 1,
        description="Where the bands meet: 1 to 5, rising, at least a third of an octave apart.",
        json_schema_extra=listed(
            label="Crossovers", group="Bands", unit="Hz", low=20, high=20000, step=1, scale="log", head="up to",
            each="Where this band ends and the next begins.",
        ),
    )  # fmt: skip
    bands: list[MultibandBand] = Field(
        default=[], max_length=MOST_BANDS, description="One more than crossovers, from the lowest.",
        json_schema_extra=listed(label="Bands", group="Bands", columns=COLUMNS, between="crossovers_hz"),
    )  # fmt: skip
    amount_pct: float = number(
        100.0, 0, 150, label="Amount", unit="%", group="Level", step=1,
        help="Scales how far every band moves, all at once.",
    )  # fmt: skip
    grit_pct: float = usual.share_pct(
        0.0, "Bends what is made of all bands, each by itself; added to their own.", label="Grit", group="Level",
        moves=False,
    )  # fmt: skip

    lean_lows_db: float = _lean("Lows", "low")
    lean_middle_db: float = _lean("Middle", "middle")
    lean_highs_db: float = _lean("Highs", "high")

    @field_validator("crossovers_hz")
    @classmethod
    def _rising(cls, values: list[float]) -> list[float]:
        if not all(20.0 <= value <= 20000.0 for value in values):
            raise ValueError("numbers from 20 to 20000 Hz")
        if any(high < LEAST_STEP * low for low, high in itertools.pairwise(values)):
            raise ValueError("rising, each at least a third of an octave above the one before")
        return values

    @model_validator(mode="before")
    @classmethod
    def _one_more_band_than_crossovers(cls, values: Any) -> Any:
        if not isinstance(values, dict):
            return values
        crossovers = values.get("crossovers_hz", cls.model_fields["crossovers_hz"].default)
        bands = values.get("bands", [])
        if isinstance(crossovers, list) and isinstance(bands, list) and len(bands) <= len(crossovers):
            values = {**values, "bands": [*bands, *({} for _ in range(len(crossovers) + 1 - len(bands)))]}
        return values

    def bound(self, moved: dict[str, Any]) -> None:
        """Each crossover stays above the one before and, where that does not move, below the next."""
        before: Any = 0.0
        for place, hz in enumerate(self.crossovers_hz):
            path, after = f"crossovers_hz.{place}", f"crossovers_hz.{place + 1}"
            value = moved.get(path)
            if value is not None:
                value = np.maximum(value, before * BOUND_STEP)
                if place + 1 < len(self.crossovers_hz) and after not in moved:
                    value = np.minimum(value, self.crossovers_hz[place + 1] / BOUND_STEP)
                moved[path] = value
            before = hz if value is None else value

    @model_validator(mode="after")
    def _one_band_each(self) -> "MultibandSettings":
        wanted = len(self.crossovers_hz) + 1
        if len(self.bands) != wanted:
            allowed = f"{wanted} bands between {wanted - 1} crossovers_hz"
            raise MisfitError("bands", f"{len(self.bands)} bands", allowed)
        return self


def leaning_db(settings: Any, index: int) -> Any:
    """How far the line leans up in the middle of a band, straight over log frequency between LEAN_HZ; a number, or one
    a row where it moves.
    """
    edges = [20.0, *settings.crossovers_hz, 20000.0]
    at = 0.5 * math.log(edges[index] * edges[index + 1])
    weights = [float(np.interp(at, np.log(LEAN_HZ), one)) for one in np.eye(3)]
    return sum(w * lean for w, lean in zip(weights, _leans(settings), strict=True))


def _leans(settings: Any) -> tuple[Any, Any, Any]:
    lows, middle, highs = (getattr(settings, name) for name in LEANS)
    return lows, middle, highs


def leaned(settings: Any, index: int, band: Any) -> Any:
    """A band's settings as the line makes them: where it leans up, one that compresses acts from as much lower, and
    what that takes of loud sound is made up.
    """
    if band.direction != "compress" or not any(np.any(lean) for lean in _leans(settings)):
        return band
    lean = leaning_db(settings, index)
    steep = np.where(np.asarray(band.ratio) == FLAT_RATIO, 1.0, 1.0 - 1.0 / np.asarray(band.ratio))
    made_up = lean * steep * settings.amount_pct / 100.0
    return SimpleNamespace(**vars(band) | {"threshold_db": band.threshold_db - lean, "gain_db": band.gain_db + made_up})
