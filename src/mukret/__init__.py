"""Mukret: extraction rules that turn nested JSON responses into typed, traceable tables.

rules = mukret.load_rules("feed.rules.yaml")
result = mukret.extract(rules, ["day1.json.gz"])
for name, batch in mukret.stream(rules, ["day1.json.gz"]): ...
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from mukret.version import __version__

if TYPE_CHECKING:
    from mukret.engine.interface import Result, extract, stream
    from mukret.errors import (
        ExpressionError,
        InputError,
        MukretError,
        OutputError,
        PathSyntaxError,
        RulesError,
        StoppedError,
        UsageError,
    )
    from mukret.paths import parse_path
    from mukret.rules import Rules, load_rules

__all__ = [
    "ExpressionError",
    "InputError",
    "MukretError",
    "OutputError",
    "PathSyntaxError",
    "Result",
    "Rules",
    "RulesError",
    "StoppedError",
    "UsageError",
    "__version__",
    "extract",
    "load_rules",
    "parse_path",
    "stream",
]

_HOMES = {
    **dict.fromkeys(("extract", "stream", "Result"), "mukret.engine.interface"),
    **dict.fromkeys(("Rules", "load_rules"), "mukret.rules"),
    "parse_path": "mukret.paths",
}


def __getattr__(name: str) -> Any:
    """Public names are imported when they are first used, so that `mukret --help` loads next to nothing."""
    if name not in __all__:
        raise AttributeError(f"module 'mukret' has no attribute {name!r}")
    return getattr(import_module(_HOMES.get(name, "mukret.errors")), name)
