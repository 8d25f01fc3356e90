"""Whether the sign was right: of the value, or of the change against the last that was known."""

import numpy as np

from proteron.core.judge.metrics.metric import Loss, Metric, Scored
from proteron.core.panel import Floats


def _code(forecast: Floats, truth: Floats) -> Floats:
    """2 where the forecast is above zero, plus 1 where the truth is: a place in the two-by-two table; zero has none."""
    known = np.isfinite(forecast) & np.isfinite(truth) & (forecast != 0) & (truth != 0)
    return np.where(known, 2.0 * (forecast > 0) + (truth > 0), np.nan)


def _changes(scored: Scored) -> Floats:
    if scored.last is None:
        return np.full(scored.truth.shape, np.nan)
    return _code(scored.mean - scored.last, scored.truth - scored.last)


def _right(code: Floats) -> Floats:
    return np.where(np.isfinite(code), (code == 0) | (code == 3), np.nan)


SIGN = Metric(
    "sign", "right sign", "share", Loss("sign", lambda scored: _code(scored.mean, scored.truth)),
    "share of points where f and y have the same sign", "Pesaran & Timmermann 1992", larger=True, point=_right,
    undefined="truth or forecast is zero there",
)  # fmt: skip
SIGN_OF_CHANGE = Metric(
    "sign_of_change", "right direction", "share", Loss("sign_of_change", _changes),
    "share of points where f and y lie on the same side of the last known value", "Pesaran & Timmermann 1992",
    larger=True, point=_right, undefined="truth or forecast does not change there",
)  # fmt: skip


def sign_table(codes: Floats) -> dict[str, dict[str, int]]:
    """The two-by-two table of kept signs: by what was forecast, how often the truth went “up” and “down”."""
    words = ("down", "up")
    return {
        said: {came: int((codes == 2 * place + at).sum()) for at, came in enumerate(words)}
        for place, said in enumerate(words)
    }
