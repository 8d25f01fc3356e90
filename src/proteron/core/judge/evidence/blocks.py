"""Blocks of folds or origins that may be resampled as if each were drawn by itself."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from proteron.core.judge.evidence.intervals import FEW_SERIES
from proteron.core.judge.folds import Fold
from proteron.core.judge.losses import Losses
from proteron.core.panel import Floats
from proteron.core.timeline import Ints
from proteron.core.words import counted

Kind = Literal["fold", "folds", "origins", "series"]
_WORDS: dict[Kind, tuple[str, str]] = {
    "fold": ("fold", "folds"), "folds": ("run of folds", "runs of folds"),
    "origins": ("run of origins", "runs of origins"), "series": ("series", "series"),
}  # fmt: skip
_FEW_FOLDS = 6


@dataclass(frozen=True)
class Sample:
    """Losses of entrants over the points that all of them have, as sums (n_entrants, n_blocks, n_series).

    `kind` says what a block is: a fold, a run of folds or of origins; or, where time gives one block only, a series.
    """

    names: tuple[str, ...]
    sums: Floats
    kind: Kind

    @property
    def blocks(self) -> int:
        return int(self.sums.shape[1])

    def of(self, name: str) -> Floats:
        """Sums of one entrant (n_blocks, n_series)."""
        return np.asarray(self.sums[self.names.index(name)])

    @property
    def text(self) -> str:
        """What is resampled, in words."""
        text = counted(self.blocks, *_WORDS[self.kind])
        return (
            text if self.sums.shape[2] < FEW_SERIES else f"{text} and {counted(self.sums.shape[2], 'series', 'series')}"
        )


def sample_of(losses: Losses, names: Sequence[str], folds: Sequence[Fold] | None) -> Sample:
    """Sums of the losses of some entrants by block and series, over points that all of them have.

    Blocks without any such point are left out, series too. Where series are weighed, so are their sums. Without `folds`
    each is taken for a block.
    """
    places = [losses.names.index(name) for name in names]
    values = losses.values[places]
    both = np.isfinite(values).all(axis=0)
    sums = np.moveaxis(np.where(both, values, 0.0).sum(axis=4), 3, 2)  # entrants, folds, origins, series
    counts = np.moveaxis(both.sum(axis=3), 2, 1)
    apart: tuple[Ints, Kind] = np.indices(counts.shape[:2])[0], "fold"
    codes, kind = apart if folds is None else time_blocks(folds, counts.shape[:2])
    blocks = range(int(codes.max(initial=-1)) + 1)
    found = np.array([sums[:, codes == block].sum(axis=1) for block in blocks])
    by_block = np.array([counts[codes == block].sum(axis=0) for block in blocks])
    there = by_block.sum(axis=1) > 0, by_block.sum(axis=0) > 0
    found = np.moveaxis(found, 0, 1)[:, there[0]][:, :, there[1]]
    if losses.weights is not None:
        found = found * (losses.weights / np.maximum(by_block.sum(axis=0), 1))[there[1]]
    if found.shape[1] == 1 and found.shape[2] >= FEW_SERIES:
        return Sample(tuple(names), np.moveaxis(found, 2, 1), "series")
    return Sample(tuple(names), found, kind)


def time_blocks(folds: Sequence[Fold], shape: tuple[int, int]) -> tuple[Ints, Kind]:
    """Which block every origin (n_folds, n_origins) belongs to, -1 where a fold has fewer, and what blocks are.

    Folds are kept whole; where there are fewer than six, their origins are told apart. Those whose scored spans
    overlap make up a block: twice as many as overlap, for a loss depends on those it shares points with. Of many, more
    make up a block, so that there are about 2 √n: errors of neighbours are seldom independent (Künsch 1989).
    """
    codes = np.full(shape, -1)
    for place, fold in enumerate(folds):
        codes[place, : len(fold.origins)] = 0
    if len(folds) >= _FEW_FOLDS:
        spans = np.array([(fold.score_start, fold.score_stop) for fold in folds])
        found = _runs(spans)
        codes = np.where(codes == 0, found[:, None], -1)
        return codes, "fold" if len(np.unique(found)) == len(folds) else "folds"
    origins = np.concatenate([fold.origins for fold in folds]) if folds else np.zeros(0, dtype=np.int64)
    ahead = np.concatenate([np.full(len(fold.origins), fold.horizon) for fold in folds]) if folds else origins
    codes[codes == 0] = _runs(np.stack([origins, origins + ahead], axis=1))
    return codes, "origins"


def overlap_of(spans: Ints) -> int:
    """How many others that begin later one of the spans (n, 2), in the order of their beginnings, reaches at most."""
    return int((np.searchsorted(spans[:, 0], spans[:, 1]) - np.arange(1, len(spans) + 1)).max(initial=0))


def _runs(spans: Ints) -> Ints:
    """Blocks of neighbours in time, for the scored spans (n, 2) of folds or origins."""
    count = len(spans)
    order = np.argsort(spans[:, 0], kind="stable")
    size = max(2 * overlap_of(spans[order]), 1)
    if count >= 2 * _FEW_FOLDS:
        size = max(size, int(np.ceil(np.sqrt(count) / 2)))
    found = np.empty(count, dtype=np.int64)
    found[order] = np.minimum(np.arange(count) // size, max(count // size, 1) - 1)
    return found
