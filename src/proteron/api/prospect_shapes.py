"""Shapes of what an experiment would be, before it is one."""

from typing import Annotated, Any

from pydantic import AfterValidator, BaseModel, Field

from proteron.api.shapes import Body, Document, FoldView, Index, Place
from proteron.core.experiment import ContenderEntry, entered
from proteron.core.judge import LEVELS, Folds

_Rate = Annotated[float, Field(ge=0)]
_Level = Annotated[float, Field(gt=0, lt=1)]


class ProspectBody(Body):
    """A design of folds, as settings or as a line of text, and who enters; `rates` are measured costs by name."""

    folds: Folds = Folds()
    line: str | None = Field(None, max_length=2000, description="The design in words; it goes before `folds`.")
    seed: int = Field(0, ge=0)
    levels: tuple[_Level, ...] = LEVELS
    contenders: Annotated[tuple[ContenderEntry, ...], AfterValidator(entered)] = ()
    rates: dict[str, _Rate] = Field(
        default_factory=dict, description="Seconds for a unit of a cell's work, by contender, as `cost` gives them."
    )


class ProspectView(BaseModel):
    """Folds, sealed ones apart, and what they come to."""

    design: Document = Field(description="The folds' settings.")
    line: str = Field(description="The design in words.")
    folds: list[FoldView]
    sealed: list[FoldView] = Field(description="Folds that are not computed until their seal is broken.")
    points: int = Field(description="Points that each contender is scored on, of all series.")
    cells: int
    there: int = Field(description="Cells whose result is there already.")
    seconds: float | None = Field(description="About how long the rest takes; null: nothing is known of a cost.")


class CostBody(Body):
    """A contender, and which series it learns from as of a cutoff."""

    contender: ContenderEntry
    series: Index = 0
    until: Place


class CostView(BaseModel):
    seconds: float | None = Field(description="What one fit took; null: longer than `limit`.")
    limit: float = Field(description="Seconds after which a fit is given up.")
    rate: float | None = Field(description="Seconds for a unit of a cell's work.")


class VariantsBody(Body):
    """A contender with values that its settings are to take; each combination enters."""

    contender: ContenderEntry
    values: dict[str, list[Any]] = Field(description="Values by setting.")


class VariantsView(BaseModel):
    contenders: list[Document] = Field(description="One contender for every combination, named by what differs.")
