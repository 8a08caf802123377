"""The aims, by name; see base for what one is. Adding one is a file here and a line below."""

from typing import Any

from reins.core.trials.aims.back import BackInTime
from reins.core.trials.aims.bands import EvenByBand
from reins.core.trials.aims.base import Aim, Asks, Proposal, Work
from reins.core.trials.aims.duck import StepBack
from reins.core.trials.aims.esses import HoldTheEsses
from reins.core.trials.aims.hits import HoldTheHits
from reins.core.trials.aims.open import OpenOnTheHits
from reins.core.trials.aims.silence import SilenceBetween
from reins.core.trials.aims.within import KeepWithin, RideWithin
from reins.errors import SettingsError

AIMS: dict[str, Aim] = {
    aim.name: aim
    for aim in (
        HoldTheHits(), KeepWithin(), RideWithin(), OpenOnTheHits(), SilenceBetween(), HoldTheEsses(), EvenByBand(),
        StepBack(), BackInTime(),
    )
}  # fmt: skip

__all__ = ["AIMS", "Aim", "Asks", "Proposal", "Work", "aim_called", "described"]


def aim_called(name: str) -> Aim:
    """The aim of a name; SettingsError with those there are."""
    if name not in AIMS:
        raise SettingsError(f"There is no aim “{name}”; allowed: {', '.join(AIMS)}.")
    return AIMS[name]


def described(aim: Aim) -> dict[str, Any]:
    """What screen and documents read of an aim."""
    asks = None if aim.asks is None else vars(aim.asks)
    return {
        "name": aim.name, "label": aim.label, "about": aim.about, "types": list(aim.types), "asks": asks,
        "shows": aim.shows, "wants_key": aim.wants_key,
    }  # fmt: skip
