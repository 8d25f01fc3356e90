"""Every feature of the registry with settings that matter."""

import proteron as pt
from proteron.core.windows import CovariateSteps, Feature, Lags, Rolling

W = pt.windows
_STATISTICS = ("mean", "std", "sum", "min", "max", "median", "slope")
SETTINGS: dict[type[Feature], list[Feature]] = {
    Lags: [Lags(lags=(1, 2, 3, 7))],
    Rolling: [
        *[Rolling(each, window) for each in _STATISTICS for window in (3, 12, 24, 33)],
        *[Rolling(each, window, least=2) for each in _STATISTICS[:6] for window in (5, 24)],
        *[Rolling("quantile", window, level=0.3) for window in (9, 40)],
        Rolling("above", 12, level=0.0), Rolling("below", 12, level=1.0),
    ],
    W.CalendarCycle: [W.CalendarCycle(field="hour_of_day")],
    CovariateSteps: [CovariateSteps(column="weather", at=(0, -3))],
    W.Change: [W.Change(over=3), W.Change(form="ratio"), W.Change(form="log")],
    W.Weighted: [W.Weighted(half_life=h, statistic=s) for h in (2.0, 12.0) for s in ("mean", "std")],
    W.Expanding: [W.Expanding(statistic=each) for each in ("mean", "std", "min", "max", "count")],
    W.Since: [W.Since(low=-1, high=1)],
    W.Fourier: [W.Fourier(period=24.5, order=2)],
    W.OccasionNear: [W.OccasionNear()],
    W.Flagged: [W.Flagged(reach=12), W.Flagged(reach=40, delay=0)],
    W.Static: [W.Static(column="size"), W.Static(column="size", form="target")],
}  # fmt: skip


def plan_with(feature: Feature) -> dict:
    """Settings of a plan with one feature, beside a lag where it is none itself."""
    if isinstance(feature, Lags):
        return {"lags": feature.lags}
    place = {Rolling: "rolling", CovariateSteps: "covariates"}.get(type(feature), "more")
    return {"lags": (2,), place: (feature,)}
