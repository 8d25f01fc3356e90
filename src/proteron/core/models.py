"""Every forecaster as a class of its settings, for editors that complete and check: `models.Ridge(strength=2)`.

They go into `proteron.forecaster(model, chain=…)`; the same names in words are `proteron.forecasters()`.
"""

from proteron.core.forecasters.registry import *  # noqa: F403  # the registry is the only list of them
from proteron.core.forecasters.registry import FORECASTERS

__all__ = [each.__name__ for each in FORECASTERS]
