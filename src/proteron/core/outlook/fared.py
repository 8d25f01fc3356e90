"""How an outlook fared once the truth had come: errors against what its paths promised, ranges, drift."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Instants, Ints

Verdict = Literal["nothing came", "as promised", "drifted"]
_SURE = 0.99  # of all futures of an outlook that is right, so many never alarm
_SLACK = 0.25  # spreads, that a CUSUM takes off an error at every step
_MEAN = float(np.sqrt(2 / np.pi))  # size of a normal error, in spreads
_USUAL = _MEAN + 0.5  # spreads, that one takes off the size of an error


@dataclass(frozen=True)
class Fared:
    """What came of one outlook.

    By series and step (n_series, horizon): `error` is the size of what was erred, NaN where no truth has come, and
    `promised` its mean over the outlook's own paths. `held` is the share of truths within each level's range, `of` how
    many. `cusum` (2, n_series, horizon) tells how far errors have drifted to one side, and how far they are larger than
    they should be, both in spreads; one in a hundred futures of an outlook that is right passes any `limit` (2,
    n_series). `since` (n_series,) is the step that a drift began at, -1 where there is none.
    """

    error: Floats
    promised: Floats
    held: dict[float, float]
    of: int
    cusum: Floats
    limit: Floats
    since: Ints

    @property
    def known(self) -> int:
        """Steps of which the truth has come for any series, up to the last of them."""
        there = np.flatnonzero(np.isfinite(self.error).any(axis=0))
        return int(there[-1]) + 1 if len(there) else 0

    @property
    def drifted(self) -> NDArray[np.bool_]:
        """Which series have drifted, (n_series,)."""
        return np.asarray(self.since >= 0)

    @property
    def verdict(self) -> Verdict:
        """Of all series together."""
        if not self.of:
            return "nothing came"
        return "drifted" if self.drifted.any() else "as promised"

    @property
    def ratio(self) -> float:
        """Mean error against the mean of what was promised where the truth is known; NaN without any."""
        there = np.isfinite(self.error) & np.isfinite(self.promised)
        promised = self.promised[there].mean() if there.any() else 0.0
        return float(self.error[there].mean() / promised) if promised > 0 else float("nan")

    def by_step(self) -> tuple[Floats, Floats]:
        """Mean error and mean promised error of each step over series whose truth is known, (horizon,) each."""
        there = np.isfinite(self.error)
        count = np.maximum(there.sum(axis=0), 1)
        sums = [np.where(there, each, 0.0).sum(axis=0) / count for each in (self.error, self.promised)]
        error, promised = (np.where(there.any(axis=0), each, np.nan) for each in sums)
        return error, promised

    def in_words(self, keys: tuple[str, ...], when: list[str]) -> str:
        """The verdict in a sentence, with whom it is about and since `when` (horizon,)."""
        if not self.of:
            return "Nothing of what it forecast has come yet."
        ran = f"{self.ratio:.2f} of what was promised" if np.isfinite(self.ratio) else "not told"
        if not self.drifted.any():
            return f"Still as promised: mean error {ran}, over {self.of:,} values."
        first = int(np.argmin(np.where(self.drifted, self.since, len(when))))
        others = int(self.drifted.sum()) - 1
        also = f" and {others} more series" if others else ""
        return f"Has drifted since {when[self.since[first]]}: {keys[first]}{also}. Mean error {ran}."


def came(times: Instants, keys: Sequence[str], panel: Panel) -> Floats:
    """What a panel has of series by key at UTC times, (n_keys, n_times); NaN where it has nothing, or where that is not
    to be scored."""
    out = np.full((len(keys), len(times)), np.nan)
    values = panel.scorable()
    for index, key in enumerate(keys):
        if key in panel.keys:
            own = panel.times(key)
            at = np.searchsorted(own, times)
            inside = at < len(own)
            inside[inside] = own[at[inside]] == times[inside]
            out[index, inside] = values[panel.offsets[panel.index(key)] + at[inside]]
    return out


def fared(mean: Floats, paths: Floats, ranges: Mapping[float, tuple[Floats, Floats]], truth: Floats) -> Fared:
    """How forecasts (n_series, horizon) with joint `paths` (n_paths, n_series, horizon) and `ranges` by level stand
    beside the truth (n_series, horizon), NaN where it has not come.

    Drift is told by two-sided CUSUMs of errors, in spreads of the paths, and one of their size (Page 1954), against
    what the same sums reach in the outlook's own futures: errors of neighbouring steps and series go together there as
    they did in the past, so no independence is assumed. A limit is for all series and all steps at once.
    """
    centre = np.median(paths, axis=0)
    spread = paths.std(axis=0)
    spread = np.where(spread > 0, spread, np.nan)
    promised = np.abs(paths - mean).mean(axis=0)
    there = np.isfinite(truth) & np.isfinite(mean)
    error = np.where(there, np.abs(mean - truth), np.nan)
    scores = (truth - centre) / spread
    sums = _sums(scores[None])[:, 0]
    own = _sums((paths - centre) / spread)
    reached = own.max(axis=3)  # (2, n_paths, n_series)
    # each series on the scale of its own futures, so that one limit holds for the worst of them
    scale = np.quantile(reached, _SURE, axis=1)  # (2, n_series)
    scale = np.where(scale > 0, scale, np.inf)
    worst = (reached / scale[:, None]).max(axis=(0, 2))
    bar = max(float(np.quantile(worst, _SURE)), 1.0)
    limit = scale * bar
    passed = (sums > limit[:, :, None]) & there
    since = np.array([_since(scores[index], passed[:, index]) for index in range(len(mean))])
    held, of = {}, int(there.sum())
    for level, (low, high) in ranges.items():
        inside = (truth >= low) & (truth <= high) & there
        held[level] = float(inside.sum() / of) if of else float("nan")
    return Fared(error, np.where(np.isfinite(mean), promised, np.nan), held, of, sums, limit, since)


def _sums(errors: Floats) -> Floats:
    """CUSUMs (2, n, n_series, horizon) of standardised errors (n, n_series, horizon): the larger of those upwards and
    downwards, and that of their size; what is missing adds nothing."""
    there = np.where(np.isfinite(errors), errors, 0.0)
    counted = np.isfinite(errors)
    out = np.zeros((2, *errors.shape))
    up, down, wide = (np.zeros(errors.shape[:2]) for _ in range(3))
    for step in range(errors.shape[2]):
        now, known = there[:, :, step], counted[:, :, step]
        up = np.where(known, np.maximum(up + now - _SLACK, 0.0), up)
        down = np.where(known, np.maximum(down - now - _SLACK, 0.0), down)
        wide = np.where(known, np.maximum(wide + np.abs(now) - _USUAL, 0.0), wide)
        out[0, :, :, step] = np.maximum(up, down)
        out[1, :, :, step] = wide
    return out


def _since(scores: Floats, passed: NDArray[np.bool_]) -> int:
    """The step a drift began at that a series' sums (2, horizon) tell by having `passed` their limit; -1 without any.

    Of all starts before the alarm, the one from which errors in spreads, or their sizes, were furthest from what they
    should be, as a sum over the root of their number: the likeliest of a lasting shift (Hinkley 1970).
    """
    if not passed.any():
        return -1
    last = int(np.flatnonzero(passed.any(axis=0))[0]) + 1
    there = np.isfinite(scores[:last])
    sizes = scores if passed[0, last - 1] else np.abs(scores) - _MEAN
    told = np.where(there, sizes[:last], 0.0)[::-1]
    count = np.maximum(np.cumsum(there[::-1]), 1)
    return last - 1 - int(np.argmax(np.abs(np.cumsum(told)) / np.sqrt(count)))
