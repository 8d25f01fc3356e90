"""What an outlook learned, as a file: forecasts from newer data of the same series without learning anew."""

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.archives import archive_bytes, read_archive
from proteron.core.documents import canonical_json
from proteron.core.errors import SettingsError
from proteron.core.forecasters import FittedContender
from proteron.core.forecasters.ahead import require_ahead
from proteron.core.forecasters.saving import fitted_bytes, load_fitted
from proteron.core.outlook.ahead import Ahead, continued
from proteron.core.outlook.errors import PastErrors
from proteron.core.outlook.limits import Limits
from proteron.core.outlook.outlook import Outlook, RangesBy, aims_of, drawable, told
from proteron.core.outlook.recent import Recent, with_recent
from proteron.core.outlook.scenarios import Scenario
from proteron.core.panel import Panel, require_panel

_SCHEMA = 1


@dataclass(frozen=True, repr=False)
class Learned:
    """A contender as it learned, with the errors that ranges are made of and what the quantity can be."""

    fitted: FittedContender
    errors: PastErrors
    levels: tuple[float, ...]
    ranges: RangesBy
    limits: Limits

    def __repr__(self) -> str:
        return f"{self.fitted!r}, for up to {self.horizon} steps"

    @property
    def horizon(self) -> int:
        """Steps ahead that it forecasts at most."""
        return self.errors.horizon

    @cached_property
    def _aims(self) -> list[float]:
        return aims_of(self.errors, self.levels, self.ranges)

    def outlook(
        self, panel: Panel, horizon: int | None = None, seed: int = 0, ahead: Ahead = "given", *, paths: int = 1000,
        joint: bool = True, scenario: Scenario | None = None,
    ) -> Outlook:  # fmt: skip
        """What comes after the end of a panel of its series, or some of them; nothing is learned.

        Without `paths` there are mean and ranges only.

        Raises `InputError` for series that it does not know and for another grid, `SettingsError` beyond its horizon,
        `TooShortError` where a column that is known ahead ends too early.
        """
        require_panel(panel)
        if paths:
            drawable(paths)
        steps = horizon or self.horizon
        if not 1 <= steps <= self.horizon:
            raise SettingsError(f"It learned to forecast 1 to {self.horizon} steps.", field="horizon")
        there = continued(panel, self.fitted.contender, steps, ahead)
        if scenario is not None:
            there = scenario.applied(there, steps)
        require_ahead(there, self.fitted.contender.forecaster, steps)
        rows = [self.fitted.state.keys.index(key) for key in panel.keys if key in self.fitted.state.keys]
        standing = self.fitted.standing_on(there)
        errors = PastErrors(self.errors.flat[:, rows, :steps], self.errors.origins, self.errors.how)
        return told(standing, errors, steps, self.levels, seed, self.ranges, self.limits, paths, joint, self._aims)

    def after(
        self, recent: Mapping[str, Recent], horizon: int | None = None, ahead: Ahead = "given",
        now: np.datetime64 | None = None,
    ) -> Outlook:  # fmt: skip
        """What comes after recent points of some series, by key; mean and ranges only, nothing is drawn or learned.

        They go on from what it knew. Raises as `outlook` does, and `InputError` for points that do not fit, or that lie
        after `now` (UTC).
        """
        now = np.datetime64("now", "s") if now is None else now
        return self.outlook(with_recent(self.fitted.known, recent, now), horizon, ahead=ahead, paths=0)


def learned_by(view: Outlook) -> Learned:
    """What an outlook learned."""
    return Learned(view.fitted, view.errors, view.levels, view.ranges, view.limits)


def save_learned(view: Outlook, path: Path | str) -> Path:
    """Write what an outlook learned, so that it forecasts elsewhere to the bit; returns the path."""
    target = Path(path)
    target.write_bytes(learned_bytes(learned_by(view)))
    return target


def learned_bytes(learned: Learned) -> bytes:
    """The file of `save_learned`: arrays and a JSON document, nothing that runs."""
    document = {
        "schema_version": _SCHEMA, "levels": list(learned.levels), "ranges": learned.ranges, "how": learned.errors.how,
        "limits": asdict(learned.limits),
    }  # fmt: skip
    fitted = np.frombuffer(fitted_bytes(learned.fitted), dtype=np.uint8)
    arrays: dict[str, NDArray[Any]] = {
        "fitted": fitted, "errors": learned.errors.flat, "origins": learned.errors.origins
    }  # fmt: skip
    return archive_bytes(canonical_json(document), arrays)


def load_learned(file: Path | str | bytes) -> Learned:
    """Read what `save_learned` wrote; raises `InputError` for anything else."""
    return read_archive(file, "learned outlook", _SCHEMA, _learned)


def _learned(document: dict[str, Any], arrays: dict[str, Any]) -> Learned:
    errors = PastErrors(arrays["errors"], arrays["origins"], str(document["how"]))
    limits = Limits(**document["limits"])
    fitted = load_fitted(arrays["fitted"].tobytes())
    return Learned(fitted, errors, tuple(document["levels"]), document["ranges"], limits)
