"""The kernels, in the Python that Numba compiles. Nothing in them touches a Python object.

Text `i` of a column is `data[offsets[i]:offsets[i + 1]]`, UTF-8 without faults. A kernel that makes
texts writes them one after another into `output`, their ends into `ends`, from row `first` on, and
gives the row that it has come to: less than all where `output` is too small for the next one, so
that the caller goes on with a larger one. Rows that have to be read as a whole are left empty;
their numbers go to `left`, of which `left[0]` is the count.

The annotations are the types of the arrays; `signature` reads them.
"""

from __future__ import annotations

from collections.abc import Callable
from types import FunctionType
from typing import Any

from gravel.kernels.native.source import hashes, records, shared, texts

MODULES = (shared, texts, records, hashes)
KERNELS: tuple[Any, ...] = (*texts.KERNELS, *records.KERNELS, *hashes.KERNELS)
HELPERS: tuple[Any, ...] = tuple(
    function
    for module in MODULES
    for function in vars(module).values()
    if isinstance(function, FunctionType)
    and function.__module__ == module.__name__
    and function not in KERNELS
)


def signature(kernel: Callable[..., int]) -> list[str]:
    """The type of each argument: `uint8` and so on for an array of them, "" for an int64."""
    annotations = dict(kernel.__annotations__)
    annotations.pop("return")
    return [shared.TYPES.get(name, "") for name in annotations.values()]
