"""Cells of blends: members' cells are read, never computed again; weights are learned from earlier folds only."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.flatten import Chain
from proteron.core.forecasters import Contender, FittedContender
from proteron.core.forecasters.blend.forecaster import Blend, usual_moves
from proteron.core.forecasters.blend.members import Part
from proteron.core.forecasters.blend.mixing import Past, mixed
from proteron.core.forecasters.guards import Guards
from proteron.core.judge.cell import Cell, CellResult, Fit
from proteron.core.judge.folds import Fold
from proteron.core.panel import Floats, Panel
from proteron.core.phases import truths


def blend_of(contender: Contender) -> Blend:
    """Its settings; only for blends."""
    assert isinstance(contender.forecaster, Blend)
    return contender.forecaster


def with_members(contenders: Mapping[str, Contender]) -> dict[str, Contender]:
    """Entrants with the members of blends among them, which are judged beside: each under its name, or where somebody
    else is called so, under the blend's and its own."""
    found = dict(contenders)
    for name, contender in contenders.items():
        if not contender.is_blend:
            continue
        for member in blend_of(contender).members:
            wanted = Contender.from_document(member.contender)
            if all(each.hash != wanted.hash for each in found.values()):
                found[member.name if member.name not in found else f"{name}: {member.name}"] = wanted
    return found


def with_members_of(names: Sequence[str], contenders: Mapping[str, Contender]) -> dict[str, Contender]:
    """Some entrants, and those of whom they are blended, in the order of `contenders`."""
    wanted = {contenders[name].hash for name in names}
    for name in names:
        wanted |= set(_hashes(contenders[name])) if contenders[name].is_blend else set()
    return {name: each for name, each in contenders.items() if name in names or each.hash in wanted}


def _hashes(blend: Contender) -> list[str]:
    return [each.hash for each in blend_of(blend).contenders.values()]


def member_cells(blend: Contender, seen: Sequence[Cell]) -> tuple[str, ...]:
    """Keys of members' cells in this fold and earlier ones, which are all that was seen so far.

    Raises `SettingsError` where a member is not entered.
    """
    hashes = dict.fromkeys(_hashes(blend))
    by_hash = {id(each.contender): each.contender.hash for each in seen}
    entered = set(by_hash.values())
    for member, key in zip(blend_of(blend).members, hashes, strict=False):
        if key not in entered:
            raise SettingsError(f"The blend's member “{member.name}” is not entered.", field="members")
    return tuple(dict.fromkeys(each.key for each in seen if by_hash[id(each.contender)] in hashes))


def fits_read(cell: Cell, read: Iterable[CellResult]) -> set[str]:
    """Keys of fits that a cell goes by where they are there: its own, or what a blend's members learned in its fold."""
    if not cell.contender.is_blend:
        return {cell.fit_key}
    return {each.cell.fit_key for each in read if each.cell.key in cell.needs and each.cell.place == cell.place}


def blended_cell(
    panel: Panel, cell: Cell, read: Sequence[CellResult], fits: Mapping[str, Fit]
) -> tuple[CellResult, FittedContender]:
    """What a blend's cell found, without its losses, from what its members' cells did, `read` for this fold and earlier
    ones; `fits` by key are what members learned in this one."""
    blend, place = blend_of(cell.contender), cell.place
    members = [[each for each in read if each.cell.contender.hash == key] for key in _hashes(cell.contender)]
    now = [[each for each in mine if each.cell.place == place] for mine in members]
    mix = mixed(blend, _past(panel, cell, members), cell.levels, blend.shared, blend.by_step)
    parts = [[_part(each, fits) for each in mine] for mine in now]
    inside = place.inside(panel)
    known = inside.cut_at(place.fit_until)
    state = blend.state_of(known, parts, mix)
    fitted = FittedContender(
        cell.contender, known, place.fit_until, Chain().fit(known), state, Guards.learn(known, place.reach)
    )
    every = list(range(len(panel)))
    told = [_Told.of(mine, len(panel), place, len(cell.levels)) for mine in now]
    means = np.array([each.means for each in told])
    flat = blend.combine(means, mix.ahead(every, place.reach))
    apart = np.array([each.ends - each.means for each in told])
    ends = blend.around(means, apart, mix, every, cell.levels)
    scored = slice(place.gap, place.reach)
    fit = Fit.of(cell, fitted, fitted.flat_errors(1))
    result = CellResult(
        cell=cell, origins=place.origins, mean=fitted.held(flat, inside, place.origins)[..., scored],
        flat_mean=flat[..., scored], flat_truth=truths(inside, place.origins, place.reach)[..., scored],
        ranges=fitted.told(ends, inside, place.origins)[..., scored], losses={}, spread=fit.spread, fit=fit,
        declined=blend.declined(state),
    )  # fmt: skip
    return result, fitted


def weights_of(panel: Panel, cell: Cell, read: Sequence[CellResult]) -> Floats:
    """Weights (n_members, n_series) of a blend in a cell, in the mean over steps, from what its members' cells found in
    earlier folds."""
    blend = blend_of(cell.contender)
    members = [[each for each in read if each.cell.contender.hash == key] for key in _hashes(cell.contender)]
    past = _past(panel, cell, members)
    return mixed(blend, past, cell.levels, blend.shared, blend.by_step).weights.mean(axis=2)


def _part(result: CellResult, fits: Mapping[str, Fit]) -> Part:
    fit = result.fit or fits[result.cell.fit_key]
    return Part(fit.chain, fit.facts, fit.arrays)


@dataclass(frozen=True)
class _Told:
    """What a member forecast in a fold: means (n_series, n_origins, reach) and ends (n_levels, 2, …) of its ranges, NaN
    in the gap."""

    means: Floats
    ends: Floats

    @classmethod
    def of(cls, results: Sequence[CellResult], series: int, place: Fold, levels: int) -> "_Told":
        shape = (series, len(place.origins), place.reach)
        means, ends = np.full(shape, np.nan), np.full((levels, 2, *shape), np.nan)
        for each in results:
            rows = list(each.cell.series)
            means[rows, :, place.gap :] = each.mean
            ends[:, :, rows, :, place.gap :] = each.ranges
        return cls(means, ends)


def _past(panel: Panel, cell: Cell, members: Sequence[Sequence[CellResult]]) -> Past:
    """What members forecast in earlier folds, as far as it has happened by what this one learned until."""
    place, series, levels = cell.place, len(panel), len(cell.levels)
    known = place.known(panel, place.fit_until)
    earlier: list[Fold] = []
    for each in (result for mine in members for result in mine):
        if each.cell.place != place and each.cell.place not in earlier:
            earlier.append(each.cell.place)
    earlier.sort(key=lambda each: each.cutoff)
    reach = max([place.reach, *(each.reach for each in earlier)])
    rows = sum(len(each.origins) for each in earlier)
    truth = np.full((series, rows, reach), np.nan)
    means = np.full((len(members), series, rows, reach), np.nan)
    halves = np.full((len(members), levels, 2, series, rows, reach), np.nan)
    start = 0
    for fold in earlier:
        some = slice(start, start + len(fold.origins))
        start = some.stop
        steps = fold.origins[:, None] + np.arange(fold.reach)
        happened = truths(known, fold.origins, fold.reach, known.scorable())
        scored = np.r_[np.zeros(fold.gap, dtype=bool), fold.chosen] & fold.is_scored(steps)
        truth[:, some, : fold.reach] = np.where(scored, happened, np.nan)
        for at, mine in enumerate(members):
            told = _Told.of([each for each in mine if each.cell.place == fold], series, fold, levels)
            means[at, :, some, : fold.reach] = told.means
            halves[at, :, 0, :, some, : fold.reach] = told.means - told.ends[:, 0]
            halves[at, :, 1, :, some, : fold.reach] = told.ends[:, 1] - told.means
    return Past(truth, means, halves, usual_moves(known))
