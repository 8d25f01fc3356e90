"""Seasonal ARIMA with covariates: exact likelihood, fit, order search."""

from proteron.core.forecasters.arima.fit import ArimaFit, Orders, fit_arima

__all__ = ["ArimaFit", "Orders", "fit_arima"]
