"""Chances from joint paths, and only from them: that a level is passed, when the peak is, what to have in stock."""

from dataclasses import dataclass

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.panel import Floats


@dataclass(frozen=True)
class Chance:
    """That a level is passed: `each` (n_series, horizon) at each step, `ever` at it or before, `run` at the end of so
    many steps in a row, or before. `paths` is of how many shares these are; NaN where there is no forecast."""

    each: Floats
    ever: Floats
    run: Floats
    paths: int

    def doubt(self, share: Floats) -> Floats:
        """Standard error of shares, by how few paths there are."""
        return np.asarray(np.sqrt(share * (1 - share) / max(self.paths, 1)))


def chance(paths: Floats, above: float | None = None, below: float | None = None, run: int = 1) -> Chance:
    """That paths (n_paths, n_series, horizon) lie above a level, or below one, or either where both are given.

    Raises `SettingsError` without any level, or for a run that is longer than the horizon.
    """
    if above is None and below is None:
        raise SettingsError("A chance is of lying above a level, or below one.", field="above")
    if not 1 <= run <= paths.shape[2]:
        raise SettingsError(f"A run is of 1 to {paths.shape[2]} steps.", field="run")
    passed = np.zeros(paths.shape, dtype=bool)
    if above is not None:
        passed |= paths > above
    if below is not None:
        passed |= paths < below
    unknown = ~np.isfinite(paths).all(axis=0)
    total = np.cumsum(passed, axis=2, dtype=np.int32)
    ends = total.copy()
    ends[:, :, run:] -= total[:, :, :-run]
    in_a_row = np.maximum.accumulate(ends == run, axis=2)
    shares = [each.mean(axis=0) for each in (passed, total > 0, in_a_row)]
    each, ever, runs = (np.where(unknown, np.nan, share) for share in shares)
    return Chance(each, ever, runs, len(paths))


@dataclass(frozen=True)
class Peak:
    """The highest step of each series: how likely each is (n_series, horizon), and how high it is in each path
    (n_paths, n_series)."""

    share: Floats
    height: Floats

    @property
    def likeliest(self) -> np.ndarray:
        """The step that is most often the highest, (n_series,)."""
        return np.argmax(np.nan_to_num(self.share, nan=-1.0), axis=1)


def peak(paths: Floats, lowest: bool = False) -> Peak:
    """When paths (n_paths, n_series, horizon) are highest, or lowest, and how high."""
    signed = -paths if lowest else paths
    known = np.isfinite(signed)
    signed = np.where(known, signed, -np.inf)
    at = signed.argmax(axis=2)
    shares = np.stack([(at == step).mean(axis=0) for step in range(paths.shape[2])], axis=1)
    nothing = ~known.any(axis=(0, 2))
    shares[nothing] = np.nan
    height = np.take_along_axis(paths, at[:, :, None], axis=2)[:, :, 0]
    return Peak(shares, height)


def in_stock(paths: Floats, share: float, steps: int | None = None) -> Floats:
    """What covers all that is taken in the first `steps`, by default all, in a share of all cases, (n_series,).

    The quantile of sums over paths (n_paths, n_series, horizon). Raises `SettingsError` for what is no share.
    """
    if not 0 < share < 1:
        raise SettingsError("A share lies between 0 and 1, such as 0.95.", field="share")
    horizon = paths.shape[2]
    if steps is not None and not 1 <= steps <= horizon:
        raise SettingsError(f"There are forecasts for 1 to {horizon} steps.", field="steps")
    return np.asarray(np.quantile(paths[:, :, :steps].sum(axis=2), share, axis=0))
