"""What routes are given: the parts of the application."""

from typing import Annotated

from fastapi import Depends, Request

from reins.services.frequencies import Frequencies
from reins.services.house import House
from reins.services.jobs import Jobs
from reins.services.matching import Matching
from reins.services.previews import Previews


def _house(request: Request) -> House:
    return request.app.state.house  # type: ignore[no-any-return]


def _jobs(request: Request) -> Jobs:
    return request.app.state.jobs  # type: ignore[no-any-return]


def _previews(request: Request) -> Previews:
    return request.app.state.previews  # type: ignore[no-any-return]


def _frequencies(request: Request) -> Frequencies:
    return request.app.state.frequencies  # type: ignore[no-any-return]


def _matching(request: Request) -> Matching:
    return request.app.state.matching  # type: ignore[no-any-return]


TheHouse = Annotated[House, Depends(_house)]
TheJobs = Annotated[Jobs, Depends(_jobs)]
ThePreviews = Annotated[Previews, Depends(_previews)]
TheFrequencies = Annotated[Frequencies, Depends(_frequencies)]
TheMatching = Annotated[Matching, Depends(_matching)]
