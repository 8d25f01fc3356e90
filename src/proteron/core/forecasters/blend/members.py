"""Members of a blend: what is asked of a contender and of what it learned, and how both are kept.

Contenders hold blends and blends hold contenders; a blend knows of theirs only what stands here, and reads them by
`Readers.contender`, which they put there.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Protocol

from numpy.typing import NDArray
from pydantic import Field

from proteron.core.documents import Settings
from proteron.core.errors import SettingsError
from proteron.core.forecasters.forecast import Forecast
from proteron.core.forecasters.forecaster import Forecaster, ForecasterState, Work
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints


@dataclass(frozen=True)
class Part:
    """What a member learned of some series: its chain's document, facts and arrays."""

    chain: Mapping[str, Any]
    facts: Mapping[str, Any]
    arrays: Mapping[str, NDArray[Any]]


class FittedMember(Protocol):
    """What a contender learned."""

    @property
    def contender(self) -> "MemberContender": ...
    @property
    def known(self) -> Panel: ...
    @property
    def state(self) -> ForecasterState: ...
    @property
    def kept(self) -> Part: ...
    @property
    def has_theory(self) -> bool: ...
    def means(self, panel: Panel, origins: Ints, horizon: int) -> tuple[Floats, Floats]: ...
    def flat_errors(self, horizon: int) -> Floats: ...
    def ranges(self, panel: Panel, origins: Ints, flat: Floats, levels: Sequence[float], errors: Floats) -> Floats: ...
    def forecast(self, horizon: int, levels: Sequence[float] = ...) -> Forecast: ...


class MemberContender(Protocol):
    """A contender that may be a member."""

    @property
    def forecaster(self) -> Forecaster: ...
    @property
    def hash(self) -> str: ...
    def fit_many(self, fits: Sequence[tuple[Panel, Any, Work]]) -> Sequence[FittedMember]: ...
    def restored(
        self, known: Panel, until: int, chain: Mapping[str, Any], facts: Mapping[str, Any],
        arrays: Mapping[str, NDArray[Any]],
    ) -> FittedMember: ...  # fmt: skip


class Readers:
    """How a contender is read from its document."""

    contender: ClassVar[Callable[[dict[str, Any]], MemberContender]]


class Member(Settings):
    """A contender by its name; in an experiment its document may be left out where an entrant is called so."""

    name: str = Field(min_length=1, title="Member")
    contender: dict[str, Any] = Field(default_factory=dict, description="Empty: the entrant of that name.")

    @property
    def read(self) -> MemberContender:
        """Raises `SettingsError` where it is not described."""
        if not self.contender:
            raise SettingsError(f"What the blend's member “{self.name}” is, is not said.", field="members")
        return Readers.contender(self.contender)


def members_from(given: Any) -> Any:
    """Members as a list of names, or contenders by name, are members, too."""
    if isinstance(given, dict):
        given = [{"name": name, "contender": each} for name, each in given.items()]
    if isinstance(given, list | tuple):
        return [{"name": each} if isinstance(each, str) else each for each in given]
    return given
