"""Profile: what a series is."""

from proteron.core.profile.box_cox import box_cox_lambda
from proteron.core.profile.correlogram import acf, pacf
from proteron.core.profile.hypothesis_tests import TestResult, joint_verdict, ljung_box, stationarity, unit_root

__all__ = ["TestResult", "acf", "box_cox_lambda", "joint_verdict", "ljung_box", "pacf", "stationarity", "unit_root"]
