"""Panel: many ragged series on one common grid, with keys, covariates and marks. Read-only."""

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import astuple, dataclass, field, replace
from functools import cached_property
from typing import Any, Literal

import numpy as np
import pyarrow as pa
from numpy.typing import ArrayLike, NDArray

from proteron.core.documents import canonical_json
from proteron.core.errors import InputError, SettingsError
from proteron.core.timeline import Instants, Ints, Moment, Step, TimeAxis

Floats = NDArray[np.float64]
Role = Literal["observed", "known_ahead", "static"]

FILLED = 1  # the value was not observed but filled
NOT_LEARNED = 2  # masked from learning
NOT_SCORED = 4  # masked from scoring
FROM_BOTH_SIDES = 8  # filled with the first point after the gap too, so not known before that

_HASH_PIECE = 1 << 17


def within(positions: Ints, spans: Sequence[tuple[int, int]]) -> NDArray[np.bool_]:
    """Which positions (any shape) lie in one of the spans (start, stop)."""
    found = np.zeros(np.shape(positions), dtype=bool)
    for start, stop in spans:
        found |= (positions >= start) & (positions < stop)
    return found


def _delimit(lengths: ArrayLike) -> Ints:
    """Offsets (n + 1,) of consecutive pieces of the given lengths."""
    return np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)


def _frozen(array: NDArray[Any]) -> NDArray[Any]:
    view = array.view()
    view.flags.writeable = False
    return view


def _cells(values: Floats) -> pa.Array:
    """Numbers as an Arrow column, missing ones as null."""
    return pa.array(values, mask=np.isnan(values))


def _coded(raw: list[NDArray[Any]]) -> tuple[list[Floats], tuple[str, ...]]:
    """Numbers as they are; texts as codes with the labels these stand for, missing ones as NaN."""
    if not any(part.dtype.kind in "UO" for part in raw):
        return [np.array(part, dtype=np.float64) for part in raw], ()
    texts = [part.ravel().tolist() for part in raw]
    labels = tuple(sorted({str(value) for part in texts for value in part if value is not None}))
    codes: dict[Any, float] = {label: float(code) for code, label in enumerate(labels)}
    return [np.array([np.nan if v is None else codes[str(v)] for v in part]) for part in texts], labels


def _refuse_infinite(arrays: Mapping[str, Floats], what: str) -> None:
    """Raise `InputError` naming the first value that is infinite."""
    for key, values in arrays.items():
        at = np.flatnonzero(np.isinf(values))
        if len(at):
            raise InputError(f"{what} “{key}” is infinite at point {at[0] + 1}; what is not known is NaN.", field=key)


def _fits(role: Role, part: Floats, length: int) -> bool:
    """Whether a covariate has as many values as its role asks for."""
    if role == "static":
        return part.size == 1
    return part.ndim == 1 and (len(part) == length if role == "observed" else len(part) >= length)


@dataclass(frozen=True)
class Covariate:
    """A column on the panel's axis; one that is known ahead may reach beyond the target's end.

    `values` is flat, `offsets` (n_series + 1,) delimits the series, which start where the target does.
    """

    name: str
    role: Role
    values: Floats
    offsets: Ints
    labels: tuple[str, ...] = ()  # of a category: the text that each code in `values` stands for

    def series(self, index: int) -> Floats:
        """The values of one series by its place, (n_points,)."""
        return self.values[self.offsets[index] : self.offsets[index + 1]]


@dataclass(frozen=True)
class Mask:
    """A span of grid positions, `start` ≤ p < `stop`, left out of learning, scoring or both; of one series or all."""

    start: int
    stop: int
    reason: str
    learning: bool = True
    scoring: bool = True
    key: str | None = None


@dataclass(frozen=True)
class Occasion:
    """A named span of the calendar on the grid, `start` ≤ p < `stop`; known ahead, so it may lie beyond the data."""

    name: str
    start: int
    stop: int


@dataclass(frozen=True, repr=False)
class Panel:
    """Ragged series in one flat float64 array; NaN is missing.

    `offsets` (n_series + 1,) delimits the series in `values`; `starts` (n_series,) gives the grid
    position of each series' first point; `marks` (n_points,) holds the bits FILLED, NOT_LEARNED
    and NOT_SCORED.
    """

    axis: TimeAxis
    keys: tuple[str, ...]
    values: Floats
    offsets: Ints
    starts: Ints
    covariates: tuple[Covariate, ...] = ()
    marks: NDArray[np.uint8] = field(default_factory=lambda: np.zeros(0, dtype=np.uint8))
    unit: str = ""
    masks: tuple[Mask, ...] = ()
    occasions: tuple[Occasion, ...] = ()

    def __post_init__(self) -> None:
        if len(self.marks) != len(self.values):
            object.__setattr__(self, "marks", np.zeros(len(self.values), dtype=np.uint8))
        for name in ("values", "offsets", "starts", "marks"):
            object.__setattr__(self, name, _frozen(getattr(self, name)))
        if len(set(self.keys)) != len(self.keys):
            raise InputError("Two series have the same key.", field="keys")

    @classmethod
    def from_arrays(
        cls,
        series: Mapping[str, ArrayLike],
        start: Moment | Mapping[str, Moment],
        step: str | Step,
        zone: str = "UTC",
        covariates: Mapping[str, Any] | None = None,
        unit: str = "",
    ) -> "Panel":
        """Build a panel from one array per key.

        `start` is the first time, common or per key. A covariate is an array for all series, a
        mapping of key to array, or a pair (role, either); the role is "observed" unless given.
        """
        if not series:
            raise InputError("A panel needs at least one series.", field="series")
        arrays = {str(key): np.array(values, dtype=np.float64).ravel() for key, values in series.items()}
        _refuse_infinite(arrays, "Series")
        first_of = start if isinstance(start, Mapping) else dict.fromkeys(arrays, start)
        firsts = [TimeAxis.make(first_of[key], step, zone).start for key in arrays]
        axis = TimeAxis(min(firsts), Step.parse(step), zone)
        starts = np.array([axis.position(first) for first in firsts], dtype=np.int64)
        lengths = [len(values) for values in arrays.values()]
        offsets = _delimit(lengths)
        panel = cls(axis, tuple(arrays), np.concatenate(list(arrays.values())), offsets, starts, unit=unit)
        columns = tuple(panel._covariate(name, given) for name, given in (covariates or {}).items())
        return replace(panel, covariates=columns)

    def _covariate(self, name: str, given: Any) -> Covariate:
        role: Role = "observed"
        if isinstance(given, tuple) and len(given) == 2 and isinstance(given[0], str):
            if given[0] not in ("observed", "known_ahead", "static"):
                raise SettingsError(f"“{given[0]}” is not a covariate role.", field=name)
            role, given = given
        raw = [np.asarray(given[key] if isinstance(given, Mapping) else given) for key in self.keys]
        parts, labels = _coded(raw)
        _refuse_infinite(dict(zip(self.keys, parts, strict=True)), f"Covariate “{name}” of")
        for key, part, length in zip(self.keys, parts, self.lengths, strict=True):
            if not _fits(role, part, int(length)):
                raise InputError(
                    f"Covariate “{name}” of “{key}” has {part.size} values for {length} points.", field=name
                )
        if role == "static":
            parts = [np.full(length, float(part.ravel()[0])) for part, length in zip(parts, self.lengths, strict=True)]
        offsets = _delimit([len(part) for part in parts])
        return Covariate(name, role, np.concatenate(parts), offsets, labels)

    # reading

    def __len__(self) -> int:
        return len(self.keys)

    def __iter__(self) -> Iterator[str]:
        return iter(self.keys)

    def __getitem__(self, key: str) -> Floats:
        """The values of one series, (n_points,)."""
        return self.series(self.index(key))

    def index(self, key: str) -> int:
        """Where a series stands; raises `SettingsError` for an unknown key."""
        try:
            return self.keys.index(key)
        except ValueError as error:
            raise SettingsError(f"There is no series “{key}”.", field="series") from error

    def series(self, index: int) -> Floats:
        """The values of one series by its place, (n_points,)."""
        return self.values[self.offsets[index] : self.offsets[index + 1]]

    def series_marks(self, index: int) -> NDArray[np.uint8]:
        """The marks of one series by its place, (n_points,)."""
        return self.marks[self.offsets[index] : self.offsets[index + 1]]

    def covariate(self, name: str) -> Covariate:
        """A covariate by its name; raises `SettingsError` where there is none."""
        for column in self.covariates:
            if column.name == name:
                return column
        raise SettingsError(f"There is no covariate “{name}”.", field="covariates")

    @property
    def step(self) -> str:
        """The spacing in words, such as “1 hour”."""
        return str(self.axis.step)

    @property
    def zone(self) -> str:
        """The name of the time zone."""
        return self.axis.zone

    @cached_property
    def lengths(self) -> Ints:
        """Points of each series, (n_series,)."""
        return np.diff(self.offsets)

    @property
    def end(self) -> int:
        """Grid position just after the last point of the longest-reaching series."""
        return int((self.starts + self.lengths).max())

    def positions(self, index: int) -> Ints:
        """Grid positions of one series' points."""
        return np.arange(self.starts[index], self.starts[index] + self.lengths[index])

    def times(self, key: str) -> Instants:
        """UTC instants of one series' points, datetime64[s]."""
        return self.axis.times(self.positions(self.index(key)))

    # as a table

    def to_arrow(self) -> pa.Table:
        """One row per point in the order of series and time: time (UTC), key, value, filled, covariates."""
        times = np.concatenate([self.axis.times(self.positions(index)) for index in range(len(self))])
        codes = pa.array(np.repeat(np.arange(len(self), dtype=np.int32), self.lengths))
        columns: dict[str, Any] = {
            "time": pa.array(times, type=pa.timestamp("s", tz="UTC")),
            "key": pa.DictionaryArray.from_arrays(codes, pa.array(self.keys, pa.string())),
            "value": _cells(self.values),
            "filled": pa.array((self.marks & FILLED) > 0),
        }
        for column in self.covariates:
            name = column.name if column.name not in columns else f"{column.name} column"
            columns[name] = _cells(np.concatenate([self._beside(column, index) for index in range(len(self))]))
        return pa.table(columns)

    def _beside(self, column: Covariate, index: int) -> Floats:
        """A covariate's values at one series' points; a static one repeats."""
        values, length = column.series(index), int(self.lengths[index])
        if column.role == "static" and len(values):
            return np.full(length, values[0])
        return np.concatenate([values[:length], np.full(max(length - len(values), 0), np.nan)])

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def __repr__(self) -> str:
        count = len(self)
        named = ", ".join(self.keys[:4]) + (", …" if count > 4 else "")
        ends = np.datetime_as_string(self.axis.local(np.array([int(self.starts.min()), self.end - 1])))
        columns = "".join(f", {column.name} ({column.role.replace('_', ' ')})" for column in self.covariates)
        return (
            f"Panel of {count} series ({named}), {len(self.values):,} points every {self.step} "
            f"from {ends[0]} to {ends[1]} {self.zone}{columns}"
        )

    # as of

    def known(self, until: Moment | None = None) -> int:
        """Number of known grid positions as of `until`; everything when it is None."""
        return self.end if until is None else min(max(self.axis.known(until), 0), self.end)

    def known_lengths(self, until: Moment | None = None) -> Ints:
        """How many points of each series are known as of `until`, (n_series,)."""
        return np.clip(self.known(until) - self.starts, 0, self.lengths)

    def cut_at(self, until: Moment | None) -> "Panel":
        """The panel as it was known then: target and observed columns end there, known-ahead ones do not."""
        return self.between(0, self.known(until))

    def between(self, start: int, stop: int) -> "Panel":
        """The points at grid positions `start` ≤ p < `stop`; known-ahead columns keep their far end."""
        skipped = np.clip(start - self.starts, 0, self.lengths)
        known = np.clip(stop - self.starts, skipped, self.lengths)
        if not skipped.any() and (known == self.lengths).all():
            return self

        def cut(values: NDArray[Any], offsets: Ints, ends: Ints) -> NDArray[Any]:
            return np.concatenate([values[offsets[i] + skipped[i] : ends[i]] for i in range(len(self))])

        def cut_column(column: Covariate) -> Covariate:
            ends = column.offsets[1:] if column.role == "known_ahead" else column.offsets[:-1] + known
            lengths = ends - column.offsets[:-1] - skipped
            return replace(column, values=cut(column.values, column.offsets, ends), offsets=_delimit(lengths))

        ends = self.offsets[:-1] + known
        return replace(
            self,
            values=cut(self._as_known_at(ends), self.offsets, ends),
            marks=cut(self.marks, self.offsets, ends),
            offsets=_delimit(known - skipped),
            starts=self.starts + skipped,
            covariates=tuple(cut_column(column) for column in self.covariates),
        )

    def _as_known_at(self, ends: Ints) -> Floats:
        """Values with the filled points missing whose gap has not closed before `ends` (n_series,)."""
        if not (self.marks & FROM_BOTH_SIDES).any():
            return self.values
        values = self.values.copy()
        for index in range(len(self)):
            at = int(ends[index])
            while at > self.offsets[index] and self.marks[at - 1] & FROM_BOTH_SIDES:
                at -= 1
            values[at : ends[index]] = np.nan
        return values

    def on_axis(self, axis: TimeAxis) -> "Panel":
        """The same points with their places counted on another axis of the same grid.

        Raises `InputError` where the step differs or the points would not fall on the grid.
        """
        shift = axis.shift_of(self.axis)
        if self.axis == axis:
            return self
        return replace(
            self,
            axis=axis,
            starts=self.starts + shift,
            masks=tuple(replace(each, start=each.start + shift, stop=each.stop + shift) for each in self.masks),
            occasions=tuple(replace(each, start=each.start + shift, stop=each.stop + shift) for each in self.occasions),
        )

    def with_values(self, values: Floats) -> "Panel":
        """The same panel with other values (n_points,)."""
        return replace(self, values=values)

    def with_masks(self, masks: Sequence[Mask]) -> "Panel":
        """The same panel with more masked spans; raises `SettingsError` for an unknown series."""
        marks = self.marks.copy()
        for mask in masks:
            bits = NOT_LEARNED * mask.learning | NOT_SCORED * mask.scoring
            for index in range(len(self)) if mask.key is None else [self.index(mask.key)]:
                begin = int(self.offsets[index])
                first, last = np.clip(np.array([mask.start, mask.stop]) - self.starts[index], 0, self.lengths[index])
                marks[begin + first : begin + last] |= np.uint8(bits)
        return replace(self, marks=marks, masks=(*self.masks, *masks))

    def learned_in(self, spans: Sequence[tuple[int, int]]) -> "Panel":
        """The same panel with everything outside the given spans of grid positions masked from learning."""
        marks = self.marks.copy()
        for index in range(len(self)):
            positions = self.positions(index)
            outside = ~within(positions, spans)
            marks[self.offsets[index] : self.offsets[index + 1]][outside] |= np.uint8(NOT_LEARNED)
        return replace(self, marks=marks)

    def without(self, spans: Sequence[tuple[int, int]]) -> "Panel":
        """The same panel with target and observed columns missing in the given spans of grid positions."""
        gone = np.concatenate([within(self.positions(index), spans) for index in range(len(self))])

        def hide(column: Covariate) -> Covariate:
            if column.role != "observed":
                return column
            parts = [
                np.where(within(self.starts[i] + np.arange(size), spans), np.nan, column.values[start : start + size])
                for i, (start, size) in enumerate(
                    zip(column.offsets[:-1], np.diff(column.offsets), strict=True)
                )
            ]  # fmt: skip
            return replace(column, values=np.concatenate(parts))

        return replace(
            self,
            values=np.where(gone, np.nan, self.values),
            covariates=tuple(hide(column) for column in self.covariates),
        )

    def learnable(self) -> "Panel":
        """The same panel with points masked from learning set to missing."""
        masked = (self.marks & NOT_LEARNED) > 0
        return self.with_values(np.where(masked, np.nan, self.values)) if masked.any() else self

    def scorable(self) -> Floats:
        """Flat values with filled and masked points set to missing: what may be scored."""
        return np.where((self.marks & (FILLED | NOT_SCORED)) > 0, np.nan, self.values)

    def select(self, indices: Sequence[int]) -> "Panel":
        """Some of the series, on the same grid."""
        chosen = list(indices)

        def pick(values: NDArray[Any], offsets: Ints) -> NDArray[Any]:
            return np.concatenate([values[offsets[i] : offsets[i + 1]] for i in chosen])

        def pick_offsets(offsets: Ints) -> Ints:
            return _delimit(np.diff(offsets)[chosen])

        columns = tuple(
            replace(column, values=pick(column.values, column.offsets), offsets=pick_offsets(column.offsets))
            for column in self.covariates
        )
        return replace(
            self,
            keys=tuple(self.keys[i] for i in chosen),
            values=pick(self.values, self.offsets),
            marks=pick(self.marks, self.offsets),
            offsets=pick_offsets(self.offsets),
            starts=self.starts[chosen],
            covariates=columns,
        )

    @cached_property
    def hash(self) -> str:
        """SHA-256 over values, times, keys, roles and marks; equal content gives an equal hash."""
        digest = hashlib.sha256()
        header = {
            "version": 2,
            "start": str(self.axis.start),
            "step": self.step,
            "zone": self.zone,
            "keys": self.keys,
            "unit": self.unit,
            "covariates": [(column.name, column.role, column.labels) for column in self.covariates],
            "masks": [astuple(mask) for mask in self.masks],
            "occasions": [astuple(occasion) for occasion in self.occasions],
        }
        digest.update(canonical_json(header).encode())
        arrays: list[NDArray[Any]] = [self.offsets, self.starts, self.values, self.marks]
        arrays += [part for column in self.covariates for part in (column.offsets, column.values)]
        for array in arrays:
            digest.update(np.int64(array.nbytes).tobytes())
            for start in range(0, len(array), _HASH_PIECE):
                piece = np.ascontiguousarray(array[start : start + _HASH_PIECE])
                piece = piece.astype(piece.dtype.newbyteorder("<"), copy=False)
                if piece.dtype.kind == "f":
                    piece = np.where(np.isnan(piece), np.nan, piece + 0.0)  # zeros of either sign are alike
                digest.update(piece.data)
        return digest.hexdigest()


def require_panel(given: object) -> None:
    """Raise `InputError` where something else than a panel is handed over, saying how one is made."""
    if not isinstance(given, Panel):
        raise InputError(
            f"A panel is needed, not {type(given).__name__}: "
            'Panel.from_arrays({"key": values}, start="2024-01-01", step="1 day"), or read_panel(table).',
            field="panel",
        )
