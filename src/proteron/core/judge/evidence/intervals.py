"""How far apart two errors are, with what chance leaves open: bootstrapped over blocks, and over series of a panel."""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy.special import stdtrit

from proteron.core.panel import Floats

RESAMPLES = 2000
LEVEL = 0.95
FEWEST_BLOCKS = 3
FEW_SERIES = 5
_FARTHEST = 0.995  # with few blocks, quantiles of resampled ratios are held between these of Student's distribution


@dataclass(frozen=True)
class Interval:
    """A 95 % interval."""

    low: float
    high: float


def skill_interval(mine: Floats, theirs: Floats, power: float = 1.0) -> Interval | None:
    """Interval of 1 - (Σ mine / Σ theirs) ** power, from sums (n_blocks, n_series) over common points.

    A bootstrap-t of the logarithm of the ratio over blocks (Efron & Tibshirani 1993, ch. 12.5), 2,000 seeded draws. In
    a panel of five series and more, these are a draw too: its standard error counts what differs between blocks,
    between series, and the rest (Owen 2007), with degrees of freedom after Satterthwaite 1946. None with fewer than
    three blocks, or without error.
    """
    if len(mine) < FEWEST_BLOCKS or not (mine.sum() > 0 and theirs.sum() > 0):
        return None
    error, degrees = map(float, standard_error(mine / mine.mean() - theirs / theirs.mean()))
    low, high = (each * _student(degrees) / _student(len(mine) - 1) for each in _pivots(mine.sum(1), theirs.sum(1)))
    ratio = np.log(mine.sum() / theirs.sum())
    return Interval(*(float(1 - np.exp(power * (ratio - each * error))) for each in (low, high)))


def standard_error(influence: Floats) -> tuple[Floats, Floats]:
    """Standard errors of the means of (…, n_blocks, n_series), blocks and series both drawn; degrees of freedom (…).

    They are Satterthwaite's, and no more than those of the largest part: few blocks stay few. Fewer than five series
    are taken for all there are.
    """
    blocks, series = influence.shape[-2:]
    by_block, by_series = influence.mean(axis=-1), influence.mean(axis=-2)
    if series < FEW_SERIES:
        errors = by_block.std(axis=-1, ddof=1) / np.sqrt(blocks)
        return errors, np.full(errors.shape, blocks - 1.0)
    rest = influence - by_block[..., None] - by_series[..., None, :] + by_block.mean(axis=-1)[..., None, None]
    freedom = np.array([blocks - 1.0, series - 1.0, (blocks - 1.0) * (series - 1.0)])
    inside = (rest**2).sum(axis=(-2, -1)) / freedom[2] / (blocks * series)
    of_blocks, of_series = by_block.var(axis=-1, ddof=1) / blocks, by_series.var(axis=-1, ddof=1) / series
    parts = np.stack([np.maximum(of_blocks - inside, 0), np.maximum(of_series - inside, 0), inside], axis=-1)
    whole = parts.sum(axis=-1)
    with np.errstate(invalid="ignore"):
        together = np.where(whole > 0, whole**2 / (parts**2 / freedom).sum(axis=-1), blocks - 1)
    return np.sqrt(whole), np.minimum(together, freedom[parts.argmax(axis=-1)])


@lru_cache(maxsize=64)
def draws(blocks: int) -> Floats:
    """How often each block is drawn, as shares (RESAMPLES, n_blocks); the same in every process."""
    found = np.random.default_rng(0).multinomial(blocks, np.full(blocks, 1 / blocks), size=RESAMPLES)
    return found / blocks


def drawn(by_block: Floats) -> Floats:
    """Means over drawn blocks (n_blocks, …), (RESAMPLES, …); to the same bit in every process, whatever its threads."""
    return np.asarray(np.einsum("db,b...->d...", draws(len(by_block)), by_block))


def _pivots(mine: Floats, theirs: Floats) -> tuple[float, float]:
    """Upper and lower quantile of (resampled - found) / its standard error, for the logarithm of a ratio of means."""
    blocks = len(mine)
    means, others = drawn(mine), drawn(theirs)
    with np.errstate(invalid="ignore", divide="ignore"):
        ratios = np.log(means / others)
        relative = (
            drawn(mine**2) / means**2 + drawn(theirs**2) / others**2 - 2 * drawn(mine * theirs) / (means * others)
        )
        away = (ratios - np.log(mine.mean() / theirs.mean())) / np.sqrt(np.maximum(relative, 1e-12) / (blocks - 1))
    away = away[np.isfinite(away)]
    near, far = _student(blocks - 1), float(stdtrit(blocks - 1, _FARTHEST))
    low, high = np.quantile(away, ((1 - LEVEL) / 2, (1 + LEVEL) / 2)) if len(away) else (-far, far)
    return -float(np.clip(-low, near, far)), float(np.clip(high, near, far))


@lru_cache(maxsize=4096)
def _student(degrees: float) -> float:
    return float(stdtrit(degrees, (1 + LEVEL) / 2))
