"""Regression on covariates: notation, solvers, the coefficient table."""

from proteron.core.forecasters.regression.solve import LeastSquares, coordinate_path, least_squares

__all__ = ["LeastSquares", "coordinate_path", "least_squares"]
