"""Fits to a tiny panel, which load the kernels a forecaster needs before anything is timed."""

from typing import Any

import numpy as np

from proteron.core.forecasters.contender import Contender
from proteron.core.forecasters.forecaster import Forecaster
from proteron.core.panel import Panel

_QUICK: dict[str, dict[str, Any]] = {
    "arima": {"order": (1, 1, 1)},
    "boosted_trees": {"trees": 2},
    "elastic_net": {"strength": 0.1},
    "dense_network": {"hidden": [4], "epochs": 1},
    "autoregressive_network": {"epochs": 1, "repeats": 1},
    "convolutional_network": {"epochs": 1},
    "dilated_network": {"epochs": 1},
    "recurrent_network": {"epochs": 1},
    "attention_network": {"epochs": 1},
    "basis_network": {"epochs": 1},
    "decomposition_network": {"epochs": 1},
}  # fmt: skip
_LENGTH, _KNOWN = 240, 100


def fit_once(family: type[Forecaster]) -> None:
    """Fit a kind of forecaster to made-up values, without gaps and with them, and forecast."""
    kind = family.model_fields["kind"].default
    contender = Contender.parse({"forecaster": {"kind": kind, **_QUICK.get(kind, {})}})
    values = 10 + np.sin(np.arange(_LENGTH)) + np.arange(_LENGTH) / 100
    for gaps in (False, True):
        shown = np.where(np.arange(_LENGTH) % 50 == 7, np.nan, values) if gaps else values
        two = {"a": shown, "b": shown[::-1]} if family.joint else {"a": shown}
        contender.fit(Panel.from_arrays(two, "2014-01-01", "1 month"), _KNOWN, horizon=2).forecast(2)
