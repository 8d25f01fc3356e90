"""Looking back: points, blocks and steps that are told together from what both of their sides expect of them.

A robust regression expects every point; what speaks against it is weighed over points, blocks and steps at once, the
best explanation is taken out, and the regression is learned again without it, so that nothing that was flagged bends
what is expected, and no fault echoes a season later.
"""

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from proteron.core.detection.bridging import filled
from proteron.core.detection.evidence import (
    APART,
    BLOCK_POINT_PRICE,
    BLOCK_PRICE,
    POINT_PRICE,
    STEP,
    STEP_AHEAD,
    STEP_PRICE,
    choose,
    point_evidence,
    precision,
    step_evidence,
    step_response,
)
from proteron.core.detection.exact import Span, exact_faults
from proteron.core.detection.expectation import Design, Expectation, errors_between, expect, padded
from proteron.core.panel import Floats

_PASSES = (2.0, 2.0, 1.0, 1.0, 1.0)  # by what prices are multiplied
_SWEEPS = 2
_NORMAL_TAIL = 2.576  # of which one in a hundred errors is larger
_LONGEST, _SHORTEST = 48, 8
_FROM_ENDS = 4  # points at either end where no step is told
_STEPS_APART = 3
_MOST_LOG = 700.0
_NOTHING = 1e-290  # so little that what cannot be told apart is not divided by zero
_IMPUTED = 3.0  # variances that a value that stands in for another adds


@dataclass
class Piece:
    """A point or block, or a step, that was found; `stop` is exclusive, `size` is a step's height."""

    start: int
    stop: int
    step: bool
    size: float = 0.0
    worth: float = 0.0  # evidence less the price
    evidence: float = 0.0

    @property
    def price(self) -> float:
        """What its evidence must exceed."""
        if self.step:
            return STEP_PRICE
        return price_of(self.stop - self.start)


def price_of(length: int) -> float:
    """Of a point, or of a block."""
    return POINT_PRICE if length == 1 else BLOCK_PRICE + BLOCK_POINT_PRICE * length


@dataclass(frozen=True)
class Scale:
    """What values are looked at in: logarithms, or so many to the unit."""

    logged: bool = False
    unit: float = 1.0

    def into(self, values: Floats) -> Floats:
        """Values in this scale; NaN where it has none."""
        if self.logged:
            return np.log(np.where(values > 0, values, np.nan))
        return values / self.unit

    def out_of(self, scaled: Floats) -> Floats:
        """Back in their own."""
        return np.exp(np.minimum(scaled, _MOST_LOG)) if self.logged else scaled * self.unit


@dataclass(frozen=True)
class Looked:
    """What looking back at one series found; arrays are (n_points,) in a `scale`.

    `clean` is without what was found, `expected` what each point was expected to be given both sides, `strength` how
    much speaks against it alone, in spreads of the tail.
    """

    exact: list[Span]
    pieces: list[Piece]
    clean: Floats
    expected: Floats
    spread: Floats
    strength: Floats
    tail: float
    scale: Scale
    shift: Floats
    first: int
    errors: Floats
    weights: Floats
    expectation: Expectation | None = field(repr=False, default=None)

    @property
    def expected_values(self) -> Floats:
        """What each point was expected to be, (n_points,), in the values' own scale."""
        return self.scale.out_of(self.expected)

    @property
    def place(self) -> float:
        """Factor of the spread in the last neighbourhood."""
        if self.expectation is None:
            return 1.0
        slots, season = self.expectation.spreads.slots, len(self.expectation.spreads.slots)
        own = slots[(self.first + np.arange(max(len(self.clean) - season, 0), len(self.clean))) % season]
        return float(np.median(self.spread[-season:] / np.maximum(own, 1e-300)))


def _power_of_two(known: Floats) -> float:
    """The power of two that brings known values near one, so that nothing is lost by it and squares stay finite."""
    largest = float(np.abs(known).max(initial=0.0))
    return 2.0 ** min(max(np.frexp(largest)[1], -1000), 1000) if largest > 0 else 1.0


def on_logarithms(values: Floats, season: int) -> bool:
    """Whether values are positive and the spread of their (seasonal) differences grows with the level."""
    known = values[np.isfinite(values)]
    if len(known) < 24 or not (known > 0).all() or known.max() < 1.5 * known.min():
        return False
    lag = season if len(values) >= 3 * season else 1
    change, level = np.abs(values[lag:] - values[:-lag]), (values[lag:] + values[:-lag]) / 2
    there = np.isfinite(change)
    change, level = change[there], level[there]
    if len(change) < 20:
        return False
    parts = np.array_split(np.argsort(level, kind="stable"), 5)
    spreads = np.array([np.median(change[part]) for part in parts])
    levels = np.array([np.median(level[part]) for part in parts])
    if not (spreads > 0).all() or levels[-1] < 1.3 * levels[0]:
        return False
    return bool(np.polyfit(np.log(levels), np.log(spreads), 1)[0] > 0.5)


def look_back(values: Floats, first: int, seasons: tuple[int, ...]) -> Looked:
    """Find what was not to be expected in values (n_points,), NaN where missing; `first` is the first's position."""
    exact = exact_faults(values, seasons)
    hidden = ~np.isfinite(values)
    for each in exact:
        hidden[each.start : each.stop] = True
    known = int((~hidden).sum())
    logged = known > 0 and on_logarithms(np.where(hidden, np.nan, values), seasons[0] if seasons else 1)
    if known < 8:
        return _too_few(values, exact)
    scale = Scale(logged, 1.0 if logged else _power_of_two(values[~hidden]))
    scaled = np.where(hidden, 0.0, scale.into(np.where(hidden, 1.0, values)))
    return _Search(filled(scaled, hidden, first, seasons), hidden, first, seasons).run(exact, scale)


def _too_few(values: Floats, exact: list[Span]) -> Looked:
    nothing = np.full(len(values), np.nan)
    return Looked(exact, [], values.copy(), nothing, nothing, nothing, 1.0, Scale(), np.zeros(len(values)), 0, nothing,
                  np.zeros(len(values)))  # fmt: skip


class _Search:
    """Passes over one series without gaps; what is found is kept in `pieces` and taken out of `clean`."""

    def __init__(self, values: Floats, hidden: NDArray[np.bool_], first: int, seasons: tuple[int, ...]) -> None:
        self.values, self.hidden, self.first, self.seasons = values, hidden, first, seasons
        self.pieces: list[Piece] = []
        self.shift = np.zeros(len(values))
        self.whole = self.clean = values.copy()
        self.design = Design(len(values), int((~hidden).sum()), first, seasons)
        self.reach, self.expectation = self.design.reach, expect(values, hidden, self.design)
        self.widest = 2 * float(np.ptp(values))
        self.longest = min(max(2 * seasons[0] if seasons else 0, _SHORTEST), _LONGEST)

    def run(self, exact: list[Span], scale: Scale) -> Looked:
        """All passes, and what is left at the end."""
        for strict in _PASSES:
            self._learn()
            self._impute_hidden()
            self._find(strict)
            for _ in range(_SWEEPS):
                self._sweep()
        self._learn()
        self._impute_hidden()
        for _ in range(_SWEEPS):
            self._sweep(trimmed=True)
        tail = self._tail()
        g, q = self.evidence()
        alone = np.where(q > 0, g / np.maximum(q, 1e-300), 0.0)  # what a point is off by, given both sides
        for each in self.pieces:
            if not each.step:
                part = slice(each.start, each.stop)
                alone[part] = (self.values - self.shift - self.clean)[part]
        spread = np.where(q > 0, 1 / np.sqrt(np.maximum(q, 1e-300)), self.expectation.spread)
        strength = np.where(self.hidden, np.nan, np.minimum(np.abs(alone) / (spread * tail), 1e6))
        expected = np.where(self.hidden, self.clean + self.shift, self.values - alone)
        return Looked(
            exact, self.pieces, self.clean, expected, self.expectation.spread, strength, tail, scale, self.shift,
            self.first, self._errors(0, len(self.clean)), self.weights, self.expectation,
        )  # fmt: skip

    def _learn(self) -> None:
        masked = self.hidden.copy()
        for each in self.pieces:
            if not each.step:
                masked[each.start : each.stop] = True
        self.masked = masked
        self.expectation = expect(self.clean, masked, self.design, self.expectation)
        self.whole = padded(self.clean, self.reach, self.design.longest)
        self.clean = self.whole[self.reach :]  # a view: what is written to one is in the other
        self.taps, self.filter = self.expectation.taps
        self.response = step_response(self.taps, self.filter, STEP_AHEAD + 2 * APART)
        reads = np.zeros(len(masked))
        for lag, weight in zip(self.expectation.lags.tolist(), self.expectation.weights.tolist(), strict=True):
            reads[lag:] += weight**2 * self.hidden[: len(masked) - lag]
        self.weights = np.where(self.hidden, 0.0, 1 / (self.expectation.spread**2 * (1 + _IMPUTED * reads)))

    def _errors(self, start: int, stop: int) -> Floats:
        """Of what is clean, between two places."""
        found = self.expectation
        return errors_between(self.whole, found.lags, found.weights, found.base, start, stop)

    def evidence(self) -> tuple[Floats, Floats]:
        """g and the diagonal of Q of what is clean."""
        return point_evidence(self._errors(0, len(self.clean)), self.weights, self.taps, self.filter)

    def _impute_hidden(self) -> None:
        """What was not there becomes what both sides expect, where its block is short."""
        edges = np.flatnonzero(np.diff(np.concatenate([[False], self.hidden, [False]]).astype(np.int8)))
        even = np.where(self.hidden, np.median(self.weights[~self.hidden]), self.weights)
        for start, stop in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
            if stop - start <= 2 * self.longest:
                self._fit_block(start, stop, even)

    def _fit_block(self, start: int, stop: int, weights: Floats) -> None:
        high = min(stop + self.reach, len(self.clean))
        g, _ = point_evidence(self._errors(start, high), weights[start:high], self.taps, self.filter)
        square = precision(start, stop, weights, self.taps, self.filter)
        self.clean[start:stop] -= _solved(square, g[: stop - start])

    def _find(self, strict: float) -> None:
        g, q = self.evidence()
        steps, sizes = step_evidence(self._errors(0, len(self.clean)), self.weights, self.response[:STEP_AHEAD])
        steps[:_FROM_ENDS] = steps[max(len(steps) - _FROM_ENDS, 0) :] = 0.0
        steps[self._inside_pieces()] = 0.0
        kinds, ends = choose(g, q, self.weights, self.taps, self.filter, steps, self.longest, strict)
        for start in np.flatnonzero(kinds).tolist():
            if kinds[start] == STEP:
                self.pieces.append(Piece(start, start + 1, True, float(sizes[start])))
            else:
                self.pieces.append(Piece(start, int(ends[start]), False))
        self._join()
        self._rebuild()

    def _inside_pieces(self) -> NDArray[np.bool_]:
        """Where no step may be: in and beside what is hidden, and blocks longer than a step may take the place of."""
        out = self.hidden.copy()
        for each in self.pieces:
            if not each.step and each.stop - each.start > _STEPS_APART:
                out[each.start : each.stop] = True
        return np.convolve(out, np.ones(2 * APART + 1), "same") > 0.5

    def _join(self) -> None:
        """Blocks that overlap or touch are one; steps at one place add up."""
        blocks = sorted((each for each in self.pieces if not each.step), key=lambda each: each.start)
        joined: list[Piece] = []
        for each in blocks:
            if joined and each.start <= joined[-1].stop and each.stop - joined[-1].start <= 2 * self.longest:
                joined[-1].stop = max(joined[-1].stop, each.stop)
            elif joined and each.start < joined[-1].stop:
                continue
            else:
                joined.append(each)
        steps: list[Piece] = []
        for each in sorted((each for each in self.pieces if each.step), key=lambda each: each.start):
            if steps and each.start - steps[-1].start < _STEPS_APART:
                steps[-1].size += each.size
            else:
                steps.append(each)
        beside = [each.start for each in steps]
        joined = [
            each
            for each in joined
            if each.stop - each.start > _STEPS_APART
            or not any(each.start - APART <= at < each.stop + APART for at in beside)
        ]
        self.pieces = sorted([*joined, *steps], key=lambda each: each.start)

    def _rebuild(self) -> None:
        """`clean` from values, without steps; blocks keep what stood in for them, moved along."""
        shift = np.zeros(len(self.values))
        for each in self.pieces:
            if each.step:
                shift[each.start :] += each.size
        inside = self.hidden.copy()
        for each in self.pieces:
            if not each.step:
                inside[each.start : each.stop] = True
        moved = self.clean + self.shift - shift
        self.clean[:] = np.where(inside, moved, self.values - shift)
        self.shift = shift

    def _sweep(self, trimmed: bool = False) -> None:
        """Put every piece back alone; what no longer pays is dropped, the rest is fitted anew."""
        kept: list[Piece] = []
        following = [*(each.start for each in self.pieces[1:]), len(self.clean)]
        after = 0
        for each, until in zip(self.pieces, following, strict=False):
            pays = self._step_pays(each, after, until) if each.step else self._block_pays(each, trimmed)
            if pays:
                kept.append(each)
                after = each.stop
            elif not each.step:
                part = slice(each.start, each.stop)
                self.clean[part] = np.where(self.hidden[part], self.clean[part], (self.values - self.shift)[part])
        self.pieces = kept

    def _block_pays(self, piece: Piece, trimmed: bool) -> bool:
        """Put a block back, find which part of it is to blame, and fit that anew."""
        start, stop = piece.start, piece.stop
        low, high = max(start - 1, 0), min(stop + 1, len(self.clean))
        raw = self.values[start:stop] - self.shift[start:stop]
        off = np.where(self.hidden[start:stop], 0.0, raw - self.clean[start:stop])
        self.clean[start:stop] += off
        until = min(high + self.reach, len(self.clean))
        g, q = point_evidence(self._errors(low, until), self.weights[low:until], self.taps, self.filter)
        own = np.where(q > 0, g**2 / np.maximum(q, 1e-300), 0.0)[: high - low]
        square = precision(start, stop, self.weights, self.taps, self.filter)
        if not (np.diag(square) > 0).any():
            return False
        back = g[start - low : stop - low]
        part = _blamed(back, square) if trimmed else slice(0, stop - start)
        first, last = start + part.start, start + part.stop
        fitted = _solved(square[part, part], back[part])
        evidence = min(float(back[part] @ fitted), float(own[max(first - 1, low) - low : last + 1 - low].sum()))
        piece.worth = evidence - price_of(last - first)
        if piece.worth <= 0 or np.abs(fitted).max() > self.widest:
            return False
        self.clean[first:last] -= fitted
        piece.start, piece.stop, piece.evidence = first, last, evidence
        return True

    def _step_pays(self, piece: Piece, after: int, until: int) -> bool:
        """Fit a step anew, or one up to some points away that says more, between the pieces beside it."""
        self.clean[piece.start :] += piece.size
        self.shift[piece.start :] -= piece.size
        low, high = max(piece.start - APART, after + 1, _FROM_ENDS), min(piece.start + APART + 1, until - APART)
        if high <= low:
            piece.size = 0.0
            return False
        stop = min(high - 1 + STEP_AHEAD, until)
        errors, weights = self._errors(low, stop), self.weights[low:stop]
        fits = [_step_fit(errors[at:], weights[at:], self.response) for at in range(high - low)]
        best = max(range(len(fits)), key=lambda at: fits[at][0])
        piece.start, piece.stop = low + best, low + best + 1
        piece.evidence, piece.size = fits[best]
        if abs(piece.size) > self.widest:  # the level never was as far from any other
            piece.evidence = 0.0
        piece.worth = piece.evidence - STEP_PRICE
        if piece.worth <= 0:
            piece.size = 0.0
            return False
        self.clean[piece.start :] -= piece.size
        self.shift[piece.start :] += piece.size
        return True

    def _tail(self) -> float:
        """How much wider than a normal's the tail of the errors is."""
        errors = self._errors(0, len(self.clean))
        good = (self.weights > 0) & ~self.masked
        scaled = np.abs(errors[good]) / self.expectation.spread[good]
        if len(scaled) < 20:
            return 1.0
        return min(max(float(np.quantile(scaled, 0.99)) / _NORMAL_TAIL, 0.8), 1e6)


def _step_fit(errors: Floats, weights: Floats, response: Floats) -> tuple[float, float]:
    """Evidence of a step at the first of the errors, by all of them, and its height."""
    shown = response[: len(errors)]
    below = float((shown**2 * weights).sum())
    if below <= 0:
        return 0.0, 0.0
    height = float((shown * weights * errors).sum()) / below
    return height**2 * below, height


def _solved(square: Floats, right: Floats) -> Floats:
    size = np.maximum(np.diag(square), max(1e-12 * np.diag(square).max(), _NOTHING))
    return np.asarray(np.linalg.solve(square + np.diag(1e-9 * size), right))


def _blamed(back: Floats, square: Floats) -> slice:
    """The part of a block that explains most for its price, cut from either end as long as that pays."""

    def worth(low: int, high: int) -> float:
        return float(back[low:high] @ _solved(square[low:high, low:high], back[low:high])) - price_of(high - low)

    low, high = 0, len(back)
    best = worth(low, high)
    while high - low > 1:
        shorter = max(((low + 1, high), (low, high - 1)), key=lambda each: worth(*each))
        if worth(*shorter) <= best:
            break
        (low, high), best = shorter, worth(*shorter)
    return slice(low, high)
