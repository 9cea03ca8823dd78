"""Stand-in receivers and the comparison; importing this package registers the receivers of all formats."""

import importlib
import pkgutil

for _module in pkgutil.iter_modules(__path__):
    importlib.import_module(f"{__name__}.{_module.name}")
