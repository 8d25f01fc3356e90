"""Exponential smoothing: every form of error, trend and season, fitted, chosen and simulated."""

from proteron.core.forecasters.smoothing.fit import FittedForm, choose_form, fit_form
from proteron.core.forecasters.smoothing.forms import Form, admissible_forms

__all__ = ["FittedForm", "Form", "admissible_forms", "choose_form", "fit_form"]
