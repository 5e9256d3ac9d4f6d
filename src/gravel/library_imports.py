"""What libraries load and make at their start that no command needs, up to a quarter of the time
until anything is read: their documentation, types for annotations, functions by the hundred. It is
left out, or waits until it is asked for, in a process that is Gravel's own."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from importlib import import_module
from importlib.machinery import ModuleSpec, PathFinder
from types import ModuleType
from typing import Any

_REFUSED = ("pandas", "dateutil")
_RENAMED = ("utf8_zero_fill",)  # functions that pyarrow.compute gives a second name as it is run


class _Refusing:
    """Arrow imports pandas and dateutil to recognise their objects, of which no command has any:
    pandas takes up to half a second, and dateutil is looked for anew at every call where it is not
    installed. Spark alone insists on them."""

    @staticmethod
    def find_spec(name: str, path: object = None, target: object = None) -> None:
        """Refuse to find these two; every other module is for the next finder."""
        if name in _REFUSED and "pyspark" not in sys.modules:
            raise ModuleNotFoundError(f"no command needs {name}", name=name)


class _Replacing:
    """Finds some modules, and runs something else in their place. It is given the module, and what
    runs the module's own code in it."""

    def __init__(
        self, instead: dict[str, Callable[[ModuleType, Callable[[], None]], None]]
    ) -> None:
        self.instead = instead
        self.loaders: dict[str, Any] = {}

    def find_spec(
        self, name: str, path: Sequence[str] | None = None, target: ModuleType | None = None
    ) -> ModuleSpec | None:
        """The module's spec; None for every other module."""
        if name not in self.instead:
            return None
        spec = PathFinder.find_spec(name, path, target)
        if spec is not None:
            self.loaders[name], spec.loader = spec.loader, self  # type: ignore[assignment]
        return spec

    def create_module(self, spec: ModuleSpec) -> None:
        """As usual."""

    def exec_module(self, module: ModuleType) -> None:
        """Run what stands in for the module."""
        name = module.__name__
        self.instead[name](module, lambda: self.loaders[name].exec_module(module))


def _leave_empty(module: ModuleType, run: Callable[[], None]) -> None:
    """A module that gives functions of C their documentation."""


def _read_no_documentation(module: ModuleType, run: Callable[[], None]) -> None:
    """A module that reads documentation for the wrappers of functions."""
    vars(module)["NumpyDocString"] = lambda text: {"Parameters": ()}


class _AnyArray:
    """What an annotation says of an array."""

    def __class_getitem__(cls, of: object) -> type[_AnyArray]:
        return cls


def _annotate_arrays(module: ModuleType, run: Callable[[], None]) -> None:
    """A module of types for annotations, of which NumPy needs one for itself."""

    def all_of_it(name: str) -> Any:
        del vars(module)["__getattr__"]
        run()
        return getattr(module, name)

    vars(module).update(NDArray=_AnyArray, __getattr__=all_of_it)


class _Listed:
    """Arrow's functions, of which these are listed."""

    def __init__(self, every: Any, names: Sequence[str]) -> None:
        self.every, self.names = every, names

    def list_functions(self) -> Sequence[str]:
        return self.names

    def get_function(self, name: str) -> Any:
        return self.every.get_function(name)


def _make_functions_when_asked(module: ModuleType, run: Callable[[], None]) -> None:
    """A module that makes a wrapper, a signature and documentation for each of 300 functions: all
    of them at once where this version does it in another way."""
    compute: Any = import_module("pyarrow._compute")
    every = compute.function_registry
    before = dict(vars(module))
    try:
        known = every().list_functions()
        needed = [name for name in _RENAMED if name in known]
        compute.function_registry = lambda: _Listed(every(), needed)
        run()
        wrap = module._wrap_function
    except (AttributeError, KeyError, TypeError):
        vars(module).clear()
        vars(module).update(before)
        compute.function_registry = every
        return run()
    finally:
        compute.function_registry = every

    def made(name: str) -> Any:
        try:
            function = every().get_function(name.rstrip("_"))
        except KeyError:
            raise AttributeError(f"pyarrow.compute has no {name}", name=name) from None
        value = vars(module)[name] = wrap(name, function)
        return value

    vars(module).update(function_registry=every, __getattr__=made)


def load_less() -> None:
    """Have libraries that are imported from here on load less."""
    replacing = _Replacing(
        {
            "numpy._core._add_newdocs": _leave_empty,
            "numpy._core._add_newdocs_scalars": _leave_empty,
            "numpy._typing": _annotate_arrays,
            "pyarrow.vendored.docscrape": _read_no_documentation,
            "pyarrow.compute": _make_functions_when_asked,
        }
    )
    sys.meta_path[:0] = [_Refusing, replacing]  # type: ignore[list-item]
