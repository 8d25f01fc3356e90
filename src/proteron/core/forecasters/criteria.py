"""Criteria of likelihoods."""

import numpy as np


def information(loglik: float, free: int, count: int) -> dict[str, float]:
    """Log-likelihood with AIC, AICc (Hurvich & Tsai 1989; infinite where it is undefined) and BIC."""
    aic = -2 * loglik + 2 * free
    left = count - free - 1
    return {
        "loglik": loglik, "aic": aic, "aicc": aic + 2 * free * (free + 1) / left if left > 0 else np.inf,
        "bic": float(-2 * loglik + free * np.log(max(count, 1))),
    }  # fmt: skip
