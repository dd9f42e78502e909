"""What a handle is: one number that moves several settings of a path at once, each over a range of its own."""

from typing import Annotated, Literal

from pydantic import ConfigDict, Field, model_validator

from ..stages.base import Settings, rule

MOST, MOST_MOVES = 8, 32  # handles of a path, and settings that one moves
Identifier = Annotated[str, Field(min_length=1, max_length=40, pattern=r"^[A-Za-z0-9_-]+$")]
Keep = Annotated[str, Field(max_length=80, pattern=r"^(stages|sends)/\*/[a-z0-9_]+$")]  # settings that a swap leaves
Number = Annotated[float, Field(allow_inf_nan=False, ge=-1e6, le=1e6)]


class HandleMove(Settings):
    """One setting that a handle moves, from its value at 0 to that at 1; `from` may lie above `to`.

    `at` is the place of the setting below its path (`stages/ID/threshold_db`); in a chain file stages, branches and
    bands are named by their numbers (`stages/2/threshold_db`).
    """

    model_config = ConfigDict(serialize_by_alias=True, populate_by_name=True)

    at: str = Field(min_length=1, max_length=300)
    at_0: Number = Field(alias="from")
    at_1: Number = Field(alias="to")
    scale: Literal["linear", "log"] = "linear"

    @model_validator(mode="after")
    def _log_of_what_is_above_nothing(self) -> "HandleMove":
        if self.scale == "log" and min(self.at_0, self.at_1) <= 0:
            raise ValueError(f"“{self.at}” goes over 0, so it cannot be moved by ratios: let its scale be linear")
        return self

    def value(self, position: float) -> float:
        """Where the setting stands with the handle at `position` (0 to 1); the ends are exact."""
        if position <= 0 or self.at_0 == self.at_1:
            return self.at_0
        if position >= 1:
            return self.at_1
        if self.scale == "log":
            return round(float(self.at_0 * (self.at_1 / self.at_0) ** position), 4)
        return round(self.at_0 + (self.at_1 - self.at_0) * position, 4)


class Handle(Settings):
    """A handle by its name, with where it stands and what it moves."""

    id: Identifier
    name: str = Field(min_length=1, max_length=40)
    value: float = rule(1.0, "Handle", "%", 0, 1, step=0.01)
    moves: tuple[HandleMove, ...] = Field((), max_length=MOST_MOVES)
