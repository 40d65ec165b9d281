"""The modules of a package, found by looking into it: what a new one brings is there once its file is."""

from collections.abc import Iterator
from importlib import import_module
from pkgutil import iter_modules
from types import ModuleType
from typing import Any


def modules(package: str, having: str) -> Iterator[tuple[ModuleType, Any]]:
    """Yield the modules of a package, in the order of their names, that have something of a name of their own, each with that."""
    for module_info in sorted(iter_modules(import_module(package).__path__), key=lambda module: module.name):
        module = import_module(f"{package}.{module_info.name}")
        if having in vars(module):
            yield module, vars(module)[having]
