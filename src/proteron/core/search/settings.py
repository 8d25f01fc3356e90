"""What a search is asked to do."""

from typing import Any

from pydantic import Field, model_validator

from proteron.core.documents import Settings
from proteron.core.search.space import Space

USUAL_SECONDS = 60.0
_SHARE_OF_BUDGET, _LEAST_LIMIT, _USUAL_LIMIT = 0.2, 2.0, 60.0


class SearchSettings(Settings):
    """Budget and space of a search; a fit is a candidate learned at one fold."""

    seconds: float | None = Field(None, gt=0, title="Seconds", description="That pass, over all workers.")
    fits: int | None = Field(
        None, ge=1, title="Fits", description="Candidates learned at a fold; gives the same result again."
    )
    limit: float | None = Field(
        None, gt=0, title="Seconds a fit", description="What takes longer is stopped; empty: a fifth of the budget."
    )
    blended: int = Field(5, ge=2, le=20, title="Blended", description="So many of the best, one of a family and chain.")
    space: Space | None = Field(None, description="Empty: proposed from the data.")

    @model_validator(mode="before")
    @classmethod
    def _budgeted(cls, given: Any) -> Any:
        if isinstance(given, dict) and given.get("seconds") is None and given.get("fits") is None:
            return {**given, "seconds": USUAL_SECONDS}
        return given

    @property
    def most_seconds_a_fit(self) -> float:
        """After which a fit has stalled."""
        if self.limit is not None:
            return self.limit
        return _USUAL_LIMIT if self.seconds is None else max(_SHARE_OF_BUDGET * self.seconds, _LEAST_LIMIT)
