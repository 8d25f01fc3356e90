"""WindowPlan: how supervised rows are cut, and the table it makes."""

from collections.abc import Iterator
from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray
from pydantic import BeforeValidator, Field, ValidationError

from proteron.core.documents import Settings, settings_error
from proteron.core.errors import ProteronError, SettingsError, TooShortError
from proteron.core.panel import FROM_BOTH_SIDES, NOT_LEARNED, Floats, Panel, require_panel
from proteron.core.phases import previous_of_phase
from proteron.core.timeline import CalendarField, Ints
from proteron.core.windows.calendar import CalendarCycle
from proteron.core.windows.covariates import CovariateSteps
from proteron.core.windows.feature import Feature, Rows, Unit
from proteron.core.windows.lags import Lags, consecutive
from proteron.core.windows.registry import AnyFeature
from proteron.core.windows.rolling import Rolling
from proteron.core.windows.rolling_kernels import weighted_moments
from proteron.core.windows.table import REASONS, LeftOut, Table, keep_rows

Missing = Literal["drop", "keep", "fill"]
Precision = Literal["float64", "float32"]
CALENDAR_OF_STEP: dict[str, tuple[CalendarField, ...]] = {
    "minute": ("hour_of_day", "weekday"), "hour": ("hour_of_day", "weekday"), "day": ("weekday", "month"),
    "week": ("week_of_year",), "month": ("month",), "quarter": ("quarter",),
}  # fmt: skip


def _ordered(given: Any) -> Any:
    return tuple(given) if isinstance(given, list | range | np.ndarray | set) else given


Counts = Annotated[tuple[Annotated[int, Field(ge=1)], ...], BeforeValidator(_ordered)]


class WindowPlan(Settings):
    """Lags, rolling features, calendar, covariates, horizon and stride of a supervised table.

    Lag 1 is the value at the origin, the last known point; horizon 1 is the point after it.
    """

    schema_version: Literal[1] = 1
    lags: Counts = Field((), title="Lags", description="Steps before the first target; 1 is the origin itself.")
    rolling: tuple[Rolling, ...] = Field((), title="Rolling", description="Statistics of the last points.")
    calendar: tuple[CalendarField, ...] = Field((), title="Calendar", description="As sine and cosine at the target.")
    covariates: tuple[CovariateSteps, ...] = Field((), title="Covariates")
    more: tuple[AnyFeature, ...] = Field((), title="More features", description="Any other feature of the registry.")
    horizon: Counts = Field((1,), title="Horizon", description="Steps after the origin, one target each.")
    recursive: bool = Field(
        False, title="Fed back", description="One step is learned; further ones read forecasts as if they had happened."
    )
    stride: int = Field(1, ge=1, title="Stride", description="Steps from one origin to the next.")
    missing: Missing = Field(
        "drop", title="Missing cells", description="Drop the row, keep NaN, or fill the target's past from the left."
    )
    half_life: float | None = Field(
        None,
        gt=0,
        title="Recency",
        description="Rows so many steps older than the end weigh half; nothing: all alike.",
    )
    by_scale: bool = Field(
        False,
        title="Inverse scale",
        description="Rows weigh the inverse of the spread their series has shown.",
    )

    def __init__(self, **settings: Any) -> None:
        try:
            super().__init__(**settings)
        except ValidationError as error:
            raise settings_error(error) from error
        if not self.horizon:
            raise SettingsError("A plan needs at least one horizon.", field="horizon")
        if self.recursive and self.horizon != (1,):
            raise SettingsError(
                "Forecasts are fed back step by step: the horizon is 1 then, not "
                f"{', '.join(str(step) for step in self.horizon[:4])}{' …' if len(self.horizon) > 4 else ''}.",
                field="horizon",
            )
        if len(set(self.names)) != len(self.names):
            raise SettingsError("The plan names the same feature twice.", field="lags")

    @property
    def features(self) -> tuple[Feature, ...]:
        """Every feature in the order of its columns."""
        lags: tuple[Feature, ...] = (Lags(lags=self.lags),) if self.lags else ()
        calendar = tuple(CalendarCycle(field=field) for field in self.calendar)
        return (*lags, *self.rolling, *calendar, *self.covariates, *self.more)

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns this writes."""
        return tuple(name for feature in self.features for name in feature.names)

    @property
    def units(self) -> tuple[Unit, ...]:
        """How each column follows its series when values are centred and scaled."""
        return tuple(unit for feature in self.features for unit in feature.units)

    @property
    def target_names(self) -> tuple[str, ...]:
        """Names of the target columns, such as “+1”."""
        return tuple(f"+{step}" for step in self.horizon)

    @property
    def look_back(self) -> int:
        """Points needed up to and including the origin, at least one."""
        return max((feature.look_back for feature in self.features), default=1) or 1

    def sources(self) -> list[tuple[str, int, int]]:
        """For every column: name, first and last step relative to the origin that it reads."""
        return [
            (name, *feature.source_of(column)) for feature in self.features for column, name in enumerate(feature.names)
        ]

    def rows(self, panel: Panel, targets: bool = True) -> Rows:
        """All rows the plan allows; without `targets` also those whose targets are not there yet."""
        reach = max(self.horizon) if targets else 0
        firsts = panel.offsets[:-1] + self.look_back - 1
        counts = np.maximum(-(-(panel.offsets[1:] - reach - firsts) // self.stride), 0)
        ends = np.cumsum(counts)
        points = np.empty(ends[-1], dtype=np.int64)
        series = np.empty(ends[-1], dtype=np.int64)
        positions = np.empty(ends[-1], dtype=np.int64)
        spans = []
        for index in np.flatnonzero(counts):
            row, first, count = int(ends[index] - counts[index]), int(firsts[index]), int(counts[index])
            points[row : row + count] = np.arange(first, first + count * self.stride, self.stride)
            series[row : row + count] = index
            np.add(
                points[row : row + count], panel.starts[index] - panel.offsets[index], out=positions[row : row + count]
            )
            spans.append((row, count, first, self.stride))
        return Rows(panel, points, series, positions, self.horizon[0], tuple(spans))

    def rows_at(self, panel: Panel, points: Ints, series: Ints) -> Rows:
        """Rows at given points (n_rows,) of the panel's flat values."""
        positions = points - panel.offsets[series] + panel.starts[series]
        return Rows(panel, points, series, positions, self.horizon[0])

    def write(self, rows: Rows, precision: Precision = "float64") -> Floats:
        """Feature matrix (n_rows, n_features), C order, NaN where something is missing."""
        out = np.empty((len(rows.points), len(self.names)), dtype=precision)
        column = 0
        for feature in self.features:
            width = len(feature.names)
            feature.write(out[:, column : column + width], rows)
            column += width
        return out

    def check(self, panel: Panel) -> None:
        """Raise an error that names the field where the plan asks for what the panel cannot give."""
        require_panel(panel)
        longest = int(panel.lengths.max(initial=0))
        for field, feature in self._typed():
            try:
                roles = {panel.covariate(name).role for name in feature.columns}
            except ProteronError as error:
                raise SettingsError(error.message, field=field) from error
            if feature.look_back > longest:
                name = feature.names[min(range(len(feature.names)), key=lambda at: feature.source_of(at)[0])]
                raise TooShortError(
                    f"“{name}” looks back {feature.look_back:,} points, but the longest series has {longest:,}.",
                    field=field,
                )
            if self.recursive and "observed" in roles:
                raise SettingsError(
                    f"“{feature.columns[0]}” is only known afterwards, and forecasts that are fed back would need it "
                    "at steps that nobody forecasts: take it out, or ask for every step directly.",
                    field=field,
                )

    def _typed(self) -> Iterator[tuple[str, Feature]]:
        """Every feature with the field of the plan that it stands in."""
        own = len(self.features) - len(self.more)
        for place, feature in enumerate(self.features):
            names = {Lags: "lags", Rolling: "rolling", CalendarCycle: "calendar", CovariateSteps: "covariates"}
            yield "more" if place >= own else names[type(feature)], feature

    def cut(self, panel: Panel, targets: bool = True, precision: Precision = "float64") -> Table:
        """The supervised table of every series; windows never cross from one series to another.

        Everything is computed in doubles and kept in `precision`.

        Masked points count as missing. Without `targets`, rows reach to the last point. Raises an error
        where a feature looks back further than the longest series is long.
        """
        if targets:
            self.check(panel)
        return self._cut(panel, targets, precision)

    def sample(self, panel: Panel, most: int, seed: int = 0) -> Table:
        """As `cut`, but of at most `most` rows, drawn evenly from all; memory is bounded by what is drawn."""
        self.check(panel)
        return self._cut(panel, most=most, seed=seed)

    def _cut(
        self, panel: Panel, targets: bool = True, precision: Precision = "float64", most: int | None = None,
        seed: int = 0,
    ) -> Table:  # fmt: skip
        seen, rows, features, goals, keep = self._cells(panel, targets, precision, most, seed)
        left_out = {
            REASONS[code]: np.array([len(each[code]) for each in self._beyond(panel, targets)]) for code in (0, 1)
        }
        if keep is not None:
            reasons, _ = self._why(panel, rows, features, goals, ~keep)
            lost = rows.series[~keep]
            for code in np.unique(reasons):
                left_out[REASONS[code]] = np.bincount(lost[reasons == code], minlength=len(panel))
            features, goals = features[: keep_rows(features, keep)], goals[: keep_rows(goals, keep)]
            rows = self.rows_at(seen, rows.points[keep], rows.series[keep])
        names = self.target_names if targets else ()
        weights = self._weights(panel.learnable(), rows)
        return Table(
            panel, self, features, goals, rows.positions, rows.series, self.names, names, weights, left_out
        )  # fmt: skip

    def _cells(
        self, panel: Panel, targets: bool, precision: Precision = "float64", most: int | None = None, seed: int = 0
    ) -> tuple[Panel, Rows, Floats, Floats, NDArray[np.bool_] | None]:  # fmt: skip
        """What is seen, every row with its features and targets, and which of them to keep (None: all)."""
        learned = panel.learnable()
        seen = _filled_from_the_left(learned) if self.missing == "fill" else learned
        rows = self.rows(seen, targets)
        if most is not None and len(rows.points) > most:
            drawn = np.sort(np.random.default_rng(seed).choice(len(rows.points), most, replace=False))
            rows = self.rows_at(seen, rows.points[drawn], rows.series[drawn])
        features = self.write(rows, precision)
        goals = np.empty((len(rows.points), len(self.horizon) if targets else 0), dtype=precision)
        for column, step, length in consecutive(self.horizon) if len(rows.points) and targets else ():
            pieces = sliding_window_view(learned.values, length)
            if not rows.spans:
                goals[:, column : column + length] = pieces[rows.points + step]
            for row, count, point, stride in rows.spans:
                first = point + step
                block = pieces[first : first + (count - 1) * stride + 1 : stride]
                np.copyto(goals[row : row + count, column : column + length], block)
        keep = self._complete(seen, features, goals)
        open_gap = (panel.marks[rows.points] & FROM_BOTH_SIDES) > 0  # its filling was not known at this origin
        if open_gap.any():
            keep = ~open_gap if keep is None else keep & ~open_gap
        return seen, rows, features, goals, keep

    def _beyond(self, panel: Panel, targets: bool) -> list[tuple[range, range]]:
        """Per series the origins, counted from its start, with too little before them, and after them."""
        reach, first = max(self.horizon) if targets else 0, self.look_back - 1
        out = []
        for length in panel.lengths.tolist():
            before = range(first % self.stride, min(first, length), self.stride)
            fitting = max(-(-(length - reach - first) // self.stride), 0)
            out.append((before, range(first + fitting * self.stride, length, self.stride)))
        return out

    def _why(
        self, panel: Panel, rows: Rows, features: Floats, goals: Floats, lost: NDArray[np.bool_]
    ) -> tuple[Ints, Ints]:
        """Why rows are lost: a place in `REASONS` and the first missing column or -1, (n_lost,) each."""
        points, series = rows.points[lost], rows.series[lost]
        missing = np.isnan(np.concatenate([goals[lost], features[lost]], axis=1))
        width = goals.shape[1]
        no_target = missing[:, :width].any(axis=1)
        reasons = np.where(no_target, 3, 4)
        columns = np.where(no_target, missing.argmax(axis=1) + features.shape[1], missing.argmax(axis=1) - width)
        columns = np.where(missing.any(axis=1), columns, -1)
        bits = (panel.marks & NOT_LEARNED) > 0
        if bits.any():
            sums = np.concatenate([[0], np.cumsum(bits)])
            back = np.maximum(points - self.look_back + 1, panel.offsets[series])
            ahead = np.minimum(points + (max(self.horizon) if width else 0), panel.offsets[series + 1] - 1)
            masked = sums[ahead + 1] > sums[back]
            reasons, columns = np.where(masked, 2, reasons), np.where(masked, -1, columns)
        return reasons, columns

    def rows_left_out(self, panel: Panel) -> LeftOut:
        """Every origin that gives no row, in the order of series and time, with the reason."""
        _, rows, features, goals, keep = self._cells(panel, True)
        lost = np.zeros(len(rows.points), dtype=bool) if keep is None else ~keep
        pieces = [np.stack([rows.series[lost], rows.positions[lost], *self._why(panel, rows, features, goals, lost)])]
        for index, spans in enumerate(self._beyond(panel, True)):
            for code, span in enumerate(spans):
                positions = np.array(span, dtype=np.int64) + panel.starts[index]
                same = [np.full(len(span), each) for each in (index, code, -1)]
                pieces.append(np.stack([same[0], positions, same[1], same[2]]))
        series, positions, reasons, columns = np.concatenate(pieces, axis=1)
        order = np.lexsort((positions, series))
        names = (*self.names, *self.target_names)
        return LeftOut(positions[order], series[order], reasons[order], columns[order], names)

    def _weights(self, panel: Panel, rows: Rows) -> Floats:
        """What each row weighs, (n_rows,); from points at or before its origin, and from where the panel ends."""
        weights = np.ones(len(rows.points))
        if self.half_life is not None:
            weights *= 0.5 ** ((panel.end - 1 - rows.positions) / self.half_life)
        if self.by_scale:
            _, variances = weighted_moments(panel.values, panel.offsets, 1.0)
            spread = np.sqrt(variances[rows.points])
            weights *= np.where(spread > 0, 1 / np.where(spread > 0, spread, 1.0), 0.0)
        return weights

    @property
    def needs_whole_series(self) -> bool:
        """Whether a row reads everything from its series' first point on."""
        whole = any(feature.whole_past for feature in self.features)
        return whole or self.by_scale or self.missing == "fill"

    def batches(self, panel: Panel, rows: int = 200_000) -> Iterator[Table]:
        """The rows of `cut` in pieces of about `rows`, in the same order, for tables larger than memory.

        Long series are cut in time where all that a row reads is a limited past; where it reads everything
        from the first point on, whole series go together, and with features that pool series all do.
        """
        self.check(panel)
        if any(feature.pooled for feature in self.features):
            yield self._cut(panel)
            return
        whole = self.needs_whole_series
        group: list[int] = []
        for index, length in enumerate(panel.lengths.tolist()):
            if not whole and (length - self.look_back - max(self.horizon)) // self.stride > rows:
                if group:
                    yield self._piece(panel, panel.select(group), group)
                    group = []
                yield from self._in_time(panel, index, rows)
                continue
            if group and (int(panel.lengths[group].sum()) + length) // self.stride > rows:
                yield self._piece(panel, panel.select(group), group)
                group = []
            group.append(index)
        if group:
            yield self._piece(panel, panel.select(group), group)

    def _in_time(self, panel: Panel, index: int, rows: int) -> Iterator[Table]:
        """One series, cut with as much of its past as a row reads."""
        earliest = min((first for _, first, _ in self.sources()), default=0)
        context, reach = max(self.look_back, 1 - earliest), max(self.horizon)
        context += -(context - self.look_back) % self.stride  # so that origins fall on the same steps
        one = panel.select([index])
        first = int(panel.starts[index]) + self.look_back - 1
        last = int(panel.starts[index] + panel.lengths[index]) - reach
        for begin in range(first, last, rows * self.stride):
            end = min(begin + rows * self.stride, last)
            yield self._piece(panel, one.between(begin - context + 1, end + reach), [index]).between(begin, end)

    def _piece(self, panel: Panel, part: Panel, indices: list[int]) -> Table:
        """The table of a part, its rows numbered and weighed as those of the whole."""
        table = self._cut(part)
        weights = table.weights
        if self.half_life is not None:
            weights = weights * 0.5 ** ((panel.end - part.end) / self.half_life)
        counts = {}
        for reason, of_part in table.left_out.items():
            counts[reason] = np.zeros(len(panel), dtype=np.int64)
            counts[reason][indices] = of_part
        return replace(table, panel=panel, series=np.array(indices)[table.series], weights=weights, left_out=counts)

    def _complete(self, panel: Panel, features: Floats, goals: Floats) -> NDArray[np.bool_] | None:
        """Which rows to keep, None for all; nothing is scanned where nothing can be missing."""
        if self.missing == "keep":
            return None
        read = [panel.values, *(panel.covariate(name).values for item in self.features for name in item.columns)]
        undefined = any(max(item.at, default=0) > 0 for item in self.covariates)
        undefined = undefined or any(feature.may_be_missing for feature in self.features)
        if not undefined and not any(np.isnan(values.sum()) for values in read):
            return None
        keep = ~np.asarray(np.isnan(features).any(axis=1) | np.isnan(goals).any(axis=1))
        return None if keep.all() else keep


def _filled_from_the_left(panel: Panel) -> Panel:
    """Missing points take the last known value of their series; before the first one they stay missing."""
    if not np.isnan(panel.values).any():
        return panel
    parts = []
    for index in range(len(panel)):
        values = np.ascontiguousarray(panel.series(index))
        last = previous_of_phase(values, 1)[: len(values)]
        parts.append(np.where(np.isnan(values), last, values))
    return panel.with_values(np.concatenate(parts))


def usual_length(panel: Panel) -> int:
    """Points of the series in the middle by length, at least one."""
    return max(int(np.median(panel.lengths)), 1) if len(panel) else 1


def default_plan(panel: Panel, horizon: int | None = None) -> WindowPlan:
    """A sensible plan for the panel's step: one season of lags, the longer season, its calendar."""
    season = panel.axis.step.season
    seasons = [round(length) for length in panel.axis.step.seasons]
    usual = usual_length(panel)
    dense = min(max(season, 4), max(usual // 8, 1), 48)
    lags = set(range(1, dense + 1))
    for length in seasons[:2]:
        lags |= {lag for lag in (length, length + 1) if lag <= usual // 4}
    rolling = tuple(
        Rolling(statistic, window)
        for window in [length for length in seasons[:2] if 2 <= length <= usual // 4]
        for statistic in ("mean", "std")
    )
    steps = range(1, (horizon or 1) + 1)
    return WindowPlan(
        lags=sorted(lags), rolling=rolling, calendar=CALENDAR_OF_STEP.get(panel.axis.step.unit, ()), horizon=steps
    )
