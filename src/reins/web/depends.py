"""What routes are given: the parts of the application."""

from enum import Enum
from typing import Annotated

from fastapi import Depends, Request

from reins.services.above import Aboves
from reins.services.aims import Aims
from reins.services.blinds import Blinds
from reins.services.equal import Equal
from reins.services.fighting import Fights
from reins.services.fitting import Fitting
from reins.services.frequencies import Frequencies
from reins.services.house import House
from reins.services.jobs import Jobs
from reins.services.matching import Matching
from reins.services.previews import Previews
from reins.services.readying import Readying
from reins.services.reference import Referring
from reins.services.reins import ReinViews
from reins.services.spreads import Spreads
from reins.services.tempi import Tempi

#: The tags of a route that only asks, though what it asks for is posted: where it fails, nothing could have changed.
ASKS: list[str | Enum] = ["asks"]


def _house(request: Request) -> House:
    found: House = request.app.state.house
    return found


def _readying(request: Request) -> Readying | None:
    found: Readying | None = request.app.state.readying
    return found


def _jobs(request: Request) -> Jobs:
    found: Jobs = request.app.state.jobs
    return found


def _previews(request: Request) -> Previews:
    found: Previews = request.app.state.previews
    return found


def _frequencies(request: Request) -> Frequencies:
    found: Frequencies = request.app.state.frequencies
    return found


def _matching(request: Request) -> Matching:
    found: Matching = request.app.state.matching
    return found


def _referring(request: Request) -> Referring:
    found: Referring = request.app.state.referring
    return found


def _rein_views(request: Request) -> ReinViews:
    found: ReinViews = request.app.state.rein_views
    return found


def _fitting(request: Request) -> Fitting:
    found: Fitting = request.app.state.fitting
    return found


def _spreads(request: Request) -> Spreads:
    found: Spreads = request.app.state.spreads
    return found


def _blinds(request: Request) -> Blinds:
    found: Blinds = request.app.state.blinds
    return found


def _fights(request: Request) -> Fights:
    found: Fights = request.app.state.fights
    return found


def _equal(request: Request) -> Equal:
    found: Equal = request.app.state.equal
    return found


def _aboves(request: Request) -> Aboves:
    found: Aboves = request.app.state.aboves
    return found


def _aims(request: Request) -> Aims:
    found: Aims = request.app.state.aims
    return found


def _tempi(request: Request) -> Tempi:
    found: Tempi = request.app.state.tempi
    return found


TheHouse = Annotated[House, Depends(_house)]
TheReadying = Annotated[Readying | None, Depends(_readying)]
TheJobs = Annotated[Jobs, Depends(_jobs)]
ThePreviews = Annotated[Previews, Depends(_previews)]
TheFrequencies = Annotated[Frequencies, Depends(_frequencies)]
TheMatching = Annotated[Matching, Depends(_matching)]
TheFitting = Annotated[Fitting, Depends(_fitting)]
TheSpreads = Annotated[Spreads, Depends(_spreads)]
TheBlinds = Annotated[Blinds, Depends(_blinds)]
TheFights = Annotated[Fights, Depends(_fights)]
TheEqual = Annotated[Equal, Depends(_equal)]
TheAboves = Annotated[Aboves, Depends(_aboves)]
TheTempi = Annotated[Tempi, Depends(_tempi)]
TheAims = Annotated[Aims, Depends(_aims)]
TheReferring = Annotated[Referring, Depends(_referring)]
TheReinViews = Annotated[ReinViews, Depends(_rein_views)]
