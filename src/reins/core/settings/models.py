"""The base of every model that a document is made of, and what is raised when its parts do not fit."""

from pydantic import BaseModel, ConfigDict


class Strict(BaseModel):
    """Every document model: unknown names refused, no silent conversion, values fixed once made."""

    model_config = ConfigDict(extra="forbid", strict=True, frozen=True, allow_inf_nan=False)


class MisfitError(ValueError):
    """Settings that do not go together: which one, what it is, what is allowed beside the others. Raised by model
    validators, so that the rule holds for the settled whole, defaults included.
    """

    def __init__(self, setting: str, given: object, allowed: str) -> None:
        self.setting, self.given, self.allowed = setting, given, allowed
        super().__init__(f"{setting} is {given}; allowed: {allowed}")


class PartError(ValueError):
    """A part of a document that is wrong, said in a whole sentence; where the part stands is put before it."""
