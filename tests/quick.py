"""Settings with which every forecaster is quick, and what holds for some kinds only."""

from typing import Any

from proteron.core.forecasters import FORECASTERS, WindowForecaster

KINDS = [each.model_fields["kind"].default for each in FORECASTERS]
LEARNERS = [each.model_fields["kind"].default for each in FORECASTERS if issubclass(each, WindowForecaster)]
QUICK: dict[str, dict[str, Any]] = {
    "ridge": {"lags": [1, 2]},
    "elastic_net": {"lags": [1, 2]},
    "automatic": {"fits": 4},
    "boosted_trees": {"lags": [1, 2], "trees": 5, "leaves": 4},
    "dense_network": {"lags": [1, 2], "hidden": [4], "epochs": 2},
    "autoregressive_network": {"lags": [1, 2], "hidden": 3, "epochs": 2, "repeats": 2},
    "convolutional_network": {"lags": [1, 2], "filters": 2, "taps": 2, "hidden": 3, "epochs": 2},
    "dilated_network": {"lags": [1, 2], "channels": 2, "hidden": 3, "epochs": 2},
    "recurrent_network": {"lags": [1, 2], "units": 2, "hidden": 3, "epochs": 2},
    "attention_network": {"lags": [1, 2], "width": 4, "heads": 2, "hidden": 3, "epochs": 2},
    "basis_network": {"lags": [1, 2], "units": 4, "depth": 1, "epochs": 2},
    "decomposition_network": {"lags": [1, 2], "epochs": 2},
}  # fmt: skip
DRAWN = [kind for kind in LEARNERS if kind not in ("ridge", "elastic_net")]  # what they learn depends on the seed
SINGLE = [kind for kind in DRAWN if kind != "boosted_trees"]  # products of single precision depend on how many rows
