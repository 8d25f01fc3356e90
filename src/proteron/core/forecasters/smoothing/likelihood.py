"""The likelihood of exponential smoothing and its slopes, backwards through a pass or carried along in one.

Names as in `kernels`; slopes are in the unbounded numbers of `unfold`.
"""

import numpy as np

from proteron.core.compiled import kernel, reordering_kernel
from proteron.core.forecasters.smoothing.kernels import TINY
from proteron.core.panel import Floats

LEAST_WEIGHT = 1e-4
_BLOCK = 128


@kernel
def _share(free: float) -> float:
    return 0.5 + (0.5 - LEAST_WEIGHT) * np.sin(free)


@kernel
def _share_slope(free: float) -> float:
    return (0.5 - LEAST_WEIGHT) * np.cos(free)


@kernel
def unfold(  # noqa: C901
    free: Floats, given: Floats, trend: int, season: int, damped: bool, period: int, scale: Floats,
    weights: Floats, start: Floats,
) -> None:  # fmt: skip
    """Weights and start from unbounded numbers: 0 < level < 1, trend below it, season below what level leaves.

    Weights are level, trend over level, season, damping. Each swings between its bounds with the sine of its number,
    so that a bound is reached at a finite number and with a curvature of its own, like any other best value.

    `free` (6 + period - 1,): four of the weights, level, trend, all but the last of the season; `given` (4,) weights
    that stand fixed, NaN for the others; `scale` (2 + period, 2) centre and unit of the start values.
    """
    for i in range(4):
        if given[i] == given[i]:
            weights[i] = given[i]
    if given[0] != given[0]:
        weights[0] = _share(free[0])
    if given[1] != given[1]:
        weights[1] = _share(free[1])
    if given[2] != given[2]:
        weights[2] = (1.0 - weights[0]) * _share(free[2])
    if given[3] != given[3]:
        weights[3] = 0.89 + 0.09 * np.sin(free[3])
    if given[1] == given[1]:
        weights[1] = given[1] / weights[0]
    if trend == 0:
        weights[1] = 0.0
    if season == 0:
        weights[2] = 0.0
    if not damped:
        weights[3] = 1.0
    for i in range(2 + period - (1 if season else 0)):
        start[i] = scale[i, 0] + scale[i, 1] * free[4 + i]
    if season:
        total = 0.0
        for i in range(period - 1):
            total += start[2 + i]
        start[1 + period] = (0.0 if season == 1 else float(period)) - total
    else:
        start[2] = 0.0


@kernel
def fold_back(
    free: Floats, given: Floats, trend: int, season: int, damped: bool, period: int, scale: Floats,
    weights: Floats, of_weights: Floats, of_start: Floats, gradient: Floats, starts_free: bool,
) -> None:  # fmt: skip
    """The slope in `free` from those in weights and start, (n_free,)."""
    gradient[:] = 0.0
    slope_of_level = of_weights[0]
    if season and given[2] != given[2]:
        slope_of_level -= of_weights[2] * _share(free[2])
        gradient[2] = of_weights[2] * (1.0 - weights[0]) * _share_slope(free[2])
    if trend and given[1] == given[1]:
        slope_of_level -= of_weights[1] * weights[1] / weights[0]
    if given[0] != given[0]:
        gradient[0] = slope_of_level * _share_slope(free[0])
    if trend and given[1] != given[1]:
        gradient[1] = of_weights[1] * _share_slope(free[1])
    if damped and given[3] != given[3]:
        gradient[3] = of_weights[3] * 0.09 * np.cos(free[3])
    if starts_free:
        gradient[4] = of_start[0] * scale[0, 1]
        if trend:
            gradient[5] = of_start[1] * scale[1, 1]
        if season:
            for i in range(period - 1):
                gradient[6 + i] = (of_start[2 + i] - of_start[1 + period]) * scale[2 + i, 1]


@kernel
def likelihood(values: Floats, error: int, means: Floats, pull: Floats) -> float:
    """Minus the Gaussian log-likelihood without its constant, spread profiled out; `pull` (n,) its slope in `means`.

    The slope is left out where `pull` has no room for it.
    """
    squares, logs, together, count = 0.0, 0.0, 1.0, 0
    for t in range(len(values)):
        value = values[t]
        if value == value:
            gap = value - means[t]
            if error == 2:
                if means[t] <= TINY:
                    return np.inf
                gap /= means[t]
                together *= means[t]
                if not 1e-100 < together < 1e100:  # one logarithm for many means
                    logs += np.log(together)
                    together = 1.0
            squares += gap * gap
            count += 1
    logs += np.log(together)
    squares = max(squares, 1e-300)
    steep = -count / squares
    for t in range(len(pull)):
        value, mean = values[t], means[t]
        if value != value:
            pull[t] = 0.0
        elif error == 2:
            part = 1.0 / mean
            pull[t] = part + steep * (value - mean) * value * (part * part * part)
        else:
            pull[t] = steep * (value - mean)
    return 0.5 * count * np.log(squares / count) + logs


@kernel
def smooth_back(  # noqa: C901
    values: Floats, trend: int, season: int, period: int, weights: Floats, pull: Floats,
    levels: Floats, trends: Floats, seasons: Floats, of_weights: Floats, of_start: Floats,
) -> None:  # fmt: skip
    """Slopes of what has the slope `pull` (n,) in the means, in `weights` (4,) and `start` (2 + period,)."""
    alpha, rate, gamma, phi = weights[0], weights[1], weights[2], weights[3]
    beta = alpha * rate
    of_alpha, of_beta, of_rate, of_gamma, of_phi = 0.0, 0.0, 0.0, 0.0, 0.0
    to_level, to_slope = 0.0, 0.0
    to_season = np.zeros(len(values) + period)
    for t in range(len(values) - 1, -1, -1):
        level, slope, figure, value = levels[t], trends[t], seasons[t], values[t]
        carried, expected = slope, level
        if trend == 1:
            carried = phi * slope
            expected = level + carried
        elif trend == 2:
            carried = slope if phi == 1.0 else slope**phi
            expected = level * carried
        back_level, back_carried, back_expected, back_figure = 0.0, 0.0, 0.0, 0.0
        after = to_season[t + period]
        if value != value:
            back_expected = to_level
            back_carried = to_slope
            back_figure = after
        else:
            back_carried = to_slope
            back_gap = 0.0
            gap = value - expected
            if season == 1:
                gap = (value - figure) - expected
            elif season == 2:
                gap = value / figure - expected
            if trend == 1:
                of_beta += to_slope * gap
                back_gap = beta * to_slope
            elif trend == 2:
                new = levels[t + 1]
                of_rate += to_slope * (new / level - carried)
                to_level += rate * to_slope / level
                back_level = -rate * to_slope * new / (level * level)
                back_carried = (1.0 - rate) * to_slope
            of_alpha += to_level * gap
            back_gap += alpha * to_level
            back_expected = to_level
            if season == 1:
                of_gamma += after * gap
                back_gap += gamma * after
                back_figure = after - back_gap
            elif season == 2:
                of_gamma += after * (value / expected - figure)
                back_figure = (1.0 - gamma) * after - back_gap * value / (figure * figure)
                back_expected -= gamma * after * value / (expected * expected)
            back_expected -= back_gap
        if season == 2:
            back_expected += pull[t] * figure
            back_figure += pull[t] * expected
        else:
            back_expected += pull[t]
            if season == 1:
                back_figure += pull[t]
        if trend == 2:
            back_level += back_expected * carried
            back_carried += back_expected * level
            of_phi += back_carried * carried * np.log(slope)
            to_slope = back_carried * phi * carried / slope
        else:
            back_level += back_expected
            if trend == 1:
                back_carried += back_expected
                of_phi += back_carried * slope
                to_slope = back_carried * phi
        to_level = back_level
        to_season[t] += back_figure
    of_weights[0], of_weights[1] = of_alpha + rate * of_beta, of_rate + alpha * of_beta
    of_weights[2], of_weights[3] = of_gamma, of_phi
    of_start[0], of_start[1] = to_level, to_slope
    for i in range(period):
        of_start[2 + i] = to_season[i]


@kernel
def weight_slopes(
    free: Floats, given: Floats, trend: int, season: int, damped: bool, weights: Floats
) -> tuple[float, float, float, float, float, float]:  # fmt: skip
    """Slopes of the level's weight, of the rate in the level's number and its own, of the season's likewise, of φ.

    The rate stands for the trend's weight where it is added.
    """
    of_level = _share_slope(free[0]) if given[0] != given[0] else 0.0
    rate_of_level, of_rate, figure_of_level, of_figure, of_damping = 0.0, 0.0, 0.0, 0.0, 0.0
    if trend:
        rate_of_level = -weights[1] / weights[0] * of_level if given[1] == given[1] else 0.0
        of_rate = _share_slope(free[1]) if given[1] != given[1] else 0.0
        if trend == 1:
            rate_of_level = weights[1] * of_level + weights[0] * rate_of_level
            of_rate *= weights[0]
    if season and given[2] != given[2]:
        figure_of_level = -_share(free[2]) * of_level
        of_figure = (1.0 - weights[0]) * _share_slope(free[2])
    if damped and given[3] != given[3]:
        of_damping = 0.09 * np.cos(free[3])
    return of_level, rate_of_level, of_rate, figure_of_level, of_figure, of_damping


@kernel
def sensitivities(  # noqa: C901
    values: Floats, error: int, trend: int, season: int, damped: bool, period: int, given: Floats, scale: Floats,
    free: Floats, starts_free: bool, gradient: Floats, inner: Floats,
) -> float:  # fmt: skip
    """Minus the log-likelihood as of `likelihood`, its gradient and its Hessian by Gauss and Newton at `free`.

    One pass in which every state carries its slopes in `free` along; `gradient` (n_free,), `inner` (n_free, n_free).
    """
    size = len(free)
    weights, start = np.empty(4), np.empty(2 + period)
    unfold(free, given, trend, season, damped, period, scale, weights, start)
    to_level, rate_to_level, to_rate, figure_to_level, to_figure, to_damping = weight_slopes(
        free, given, trend, season, damped, weights
    )
    alpha, rate, gamma, phi = weights[0], weights[1], weights[2], weights[3]
    beta = alpha * rate
    level, slope, figures = start[0], start[1], start[2:].copy()
    of_level, of_slope, of_figures = np.zeros(size), np.zeros(size), np.zeros((period, size))
    if starts_free:
        of_level[4] = scale[0, 1]
        of_slope[5] = scale[1, 1] if trend else 0.0
        for i in range(period - 1 if season else 0):
            of_figures[i, 6 + i] = scale[2 + i, 1]
            of_figures[period - 1, 6 + i] = -scale[2 + i, 1]
    wide = size + 2 + size % 2
    rows, columns, products = np.zeros((_BLOCK, wide)), np.empty((wide, _BLOCK)), np.zeros((wide, wide))
    squares, logs, together, count, phase, filled = 0.0, 0.0, 1.0, 0, 0, 0
    for t in range(len(values)):
        value, figure = values[t], figures[phase]
        carried, expected, car_slope, car_phi = slope, level, 0.0, 0.0
        exp_level, exp_car = 1.0, 0.0
        if trend == 1:
            carried, car_slope, car_phi = phi * slope, phi, slope
            expected, exp_car = level + carried, 1.0
        elif trend == 2:
            if slope <= TINY or level <= TINY:
                return np.inf
            carried = slope if phi == 1.0 else slope**phi
            car_slope, car_phi = phi * carried / slope, carried * np.log(slope)
            expected, exp_level, exp_car = level * carried, carried, level
        mean, mean_exp, mean_fig = expected, 1.0, 0.0
        if season == 1:
            mean, mean_fig = expected + figure, 1.0
        elif season == 2:
            if figure <= TINY or expected <= TINY:
                return np.inf
            mean, mean_exp, mean_fig = expected * figure, figure, expected
        if error == 2 and mean <= TINY:
            return np.inf
        gap, gap_exp, gap_fig, residual, res_mean, log_row = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        new, new_slope, new_figure, turned = expected, carried, figure, 0.0
        slope_car, slope_gap, slope_new, slope_level, slope_rate = 1.0, 0.0, 0.0, 0.0, 0.0
        fig_fig, fig_gap, fig_exp = 1.0, 0.0, 0.0
        if value == value:
            gap, gap_exp = value - mean, -1.0
            residual, res_mean = gap, -1.0
            if error == 2:
                residual, res_mean, log_row = gap / mean, -value / (mean * mean), -mean / value
                together *= mean
                if not 1e-100 < together < 1e100:
                    logs += np.log(together)
                    together = 1.0
            squares += residual * residual
            count += 1
            if season == 1:
                gap_fig, fig_gap, turned = -1.0, gamma, gap
            elif season == 2:
                gap, gap_fig = value / figure - expected, -value / (figure * figure)
                turned = value / expected - figure
                fig_fig, fig_exp = 1.0 - gamma, -gamma * value / (expected * expected)
            new_figure = figure + gamma * turned
            new = expected + alpha * gap
            if trend == 1:
                slope_gap, slope_rate = beta, gap
                new_slope = carried + beta * gap
            elif trend == 2:
                slope_rate = new / level - carried
                slope_car, slope_new, slope_level = 1.0 - rate, rate / level, -rate * new / (level * level)
                new_slope = carried + rate * slope_rate
        of_figure, row = of_figures[phase], rows[filled]
        _carry(
            of_level, of_slope, of_figure, row, car_slope, exp_level, exp_car, gap_exp, gap_fig, alpha,
            res_mean * mean_exp, res_mean * mean_fig, slope_car, slope_gap, slope_new, slope_level, fig_fig, fig_gap,
            fig_exp,
        )  # fmt: skip
        of_level[0] += gap * to_level
        of_slope[0] += slope_new * gap * to_level + slope_rate * rate_to_level
        of_slope[1] += slope_rate * to_rate
        of_figure[0] += turned * figure_to_level
        of_figure[2] += turned * to_figure
        if damped:
            d_car = car_phi * to_damping
            d_exp = exp_car * d_car
            d_new = d_exp * (1.0 + alpha * gap_exp)
            row[3] += res_mean * mean_exp * d_exp
            of_slope[3] += slope_car * d_car + slope_gap * gap_exp * d_exp + slope_new * d_new
            of_figure[3] += (fig_gap * gap_exp + fig_exp) * d_exp
            of_level[3] += d_new
        row[size], row[size + 1] = residual, log_row
        level, slope, figures[phase] = new, new_slope, new_figure
        phase = phase + 1 if phase + 1 < period else 0
        filled += 1
        if filled == _BLOCK:
            _add_products(rows, columns, products)
            filled = 0
    rows[filled:] = 0.0
    _add_products(rows, columns, products)
    logs += np.log(together)
    squares = max(squares, 1e-300)
    gradient[:] = count / squares * products[size, :size] + products[size + 1, :size]
    inner[:] = count / squares * products[:size, :size]
    return 0.5 * count * np.log(squares / count) + logs


@kernel
def _carry(
    of_level: Floats, of_slope: Floats, of_figure: Floats, row: Floats, car_slope: float, exp_level: float,
    exp_car: float, gap_exp: float, gap_fig: float, alpha: float, row_exp: float, row_fig: float, slope_car: float,
    slope_gap: float, slope_new: float, slope_level: float, fig_fig: float, fig_gap: float, fig_exp: float,
) -> None:  # fmt: skip
    """Carry slopes (k,) of the states over one point, and give those of its residual, `row`."""
    for i in range(len(of_level)):
        d_car = car_slope * of_slope[i]
        d_exp = exp_level * of_level[i] + exp_car * d_car
        d_gap = gap_exp * d_exp + gap_fig * of_figure[i]
        d_new = d_exp + alpha * d_gap
        row[i] = row_exp * d_exp + row_fig * of_figure[i]
        of_slope[i] = slope_car * d_car + slope_gap * d_gap + slope_new * d_new + slope_level * of_level[i]
        of_figure[i] = fig_fig * of_figure[i] + fig_gap * d_gap + fig_exp * d_exp
        of_level[i] = d_new


@reordering_kernel
def _add_products(rows: Floats, columns: Floats, out: Floats) -> None:
    """Add the products of all pairs of the columns of `rows` (n, k) to the lower half of `out` (k, k); k is even.

    `columns` (k, n) is room to work in.
    """
    for t in range(rows.shape[0]):
        for i in range(rows.shape[1]):
            columns[i, t] = rows[t, i]
    for i in range(0, len(columns), 2):
        one, two = columns[i], columns[i + 1]
        for j in range(0, i + 1, 2):
            three, four = columns[j], columns[j + 1]
            one_three, one_four, two_three, two_four = 0.0, 0.0, 0.0, 0.0
            for t in range(len(one)):
                one_three += one[t] * three[t]
                one_four += one[t] * four[t]
                two_three += two[t] * three[t]
                two_four += two[t] * four[t]
            out[i, j] += one_three
            out[i, j + 1] += one_four
            out[i + 1, j] += two_three
            out[i + 1, j + 1] += two_four
