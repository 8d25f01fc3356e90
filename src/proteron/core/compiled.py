"""How kernels are compiled, and how linear algebra is kept reproducible."""

import importlib
from collections.abc import Callable
from contextlib import AbstractContextManager
from functools import cache
from typing import Any, TypeVar, cast

from numba import njit
from threadpoolctl import ThreadpoolController

Function = TypeVar("Function", bound=Callable[..., Any])


def kernel(function: Function) -> Function:
    """Compile a loop over points: cached on disk, without the GIL, IEEE division.

    Numba's default check for division by zero blocks vectorisation, hence `error_model`.
    """
    compiled = njit(cache=True, nogil=True, error_model="numpy")(function)
    return cast(Function, compiled)


def reordering_kernel(function: Function) -> Function:
    """As `kernel`, for sums whose last bits do not matter: added up in the machine's width, the same each time."""
    compiled = njit(cache=True, nogil=True, error_model="numpy", fastmath={"reassoc", "contract", "nsz"})(function)
    return cast(Function, compiled)


@cache
def _blas() -> ThreadpoolController:
    """The libraries of linear algebra, found once: looking for them takes longer than a small fit."""
    importlib.import_module("scipy.linalg")  # brings the last of them
    return ThreadpoolController()


def single_blas_thread() -> AbstractContextManager[Any]:
    """Context in which every BLAS uses one thread, so that sums keep their order and bits."""
    return cast(AbstractContextManager[Any], _blas().limit(limits=1, user_api="blas"))
