"""Profile: what a series is."""

from proteron.core.powers.box_cox import box_cox_lambda
from proteron.core.powers.yeo_johnson import yeo_johnson, yeo_johnson_lambda
from proteron.core.profile.assessment import TESTED, Assessment, Suggestion, joint_verdict, run_tests, suggest
from proteron.core.profile.break_tests import chow, cusum
from proteron.core.profile.correlogram import acf, bartlett_bounds, cross_correlation, pacf
from proteron.core.profile.covariates import CovariateLink, covariate_links, redundancy_groups
from proteron.core.profile.features import SeriesFeatures, panel_features, series_features
from proteron.core.profile.hypothesis_tests import TestResult, ljung_box, stationarity, unit_root, unit_root_hac
from proteron.core.profile.residual_tests import arch_lm, breusch_pagan, jarque_bera, runs_test
from proteron.core.profile.seasonal_tests import seasonal_stability
from proteron.core.profile.shape import SpreadByLevel, block_of, lag_pairs, quantile_points, spread_by_level
from proteron.core.profile.spectrum import Candidate, Spectrum, candidate_periods, periodogram
from proteron.core.profile.strengths import (
    Strengths,
    intermittency,
    level_shift,
    lumpiness,
    spectral_entropy,
    strengths,
    variance_shift,
)  # fmt: skip

__all__ = [
    "TESTED", "Assessment", "Candidate", "CovariateLink", "SeriesFeatures", "Spectrum", "SpreadByLevel", "Strengths",
    "Suggestion", "TestResult", "acf", "arch_lm", "bartlett_bounds", "block_of", "box_cox_lambda", "breusch_pagan",
    "candidate_periods", "chow", "covariate_links", "cross_correlation", "cusum", "intermittency", "jarque_bera",
    "joint_verdict", "lag_pairs", "level_shift", "ljung_box", "lumpiness", "pacf", "panel_features", "periodogram",
    "quantile_points", "redundancy_groups", "run_tests", "runs_test", "seasonal_stability", "series_features",
    "spectral_entropy", "spread_by_level", "stationarity", "strengths", "suggest", "unit_root", "unit_root_hac",
    "variance_shift", "yeo_johnson", "yeo_johnson_lambda",
]  # fmt: skip
