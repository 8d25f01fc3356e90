"""How kernels are compiled, and how linear algebra is kept reproducible."""

from collections.abc import Callable
from typing import Any, TypeVar, cast

from numba import njit
from threadpoolctl import threadpool_limits

Function = TypeVar("Function", bound=Callable[..., Any])


def kernel(function: Function) -> Function:
    """Compile a loop over points: cached on disk, without the GIL, IEEE division.

    Numba's default check for division by zero blocks vectorisation, hence `error_model`.
    """
    compiled = njit(cache=True, nogil=True, error_model="numpy")(function)
    return cast(Function, compiled)


def single_blas_thread() -> threadpool_limits:
    """Context in which every BLAS uses one thread, so that sums keep their order and bits."""
    return threadpool_limits(limits=1, user_api="blas")
