"""Mukret: extraction rules that turn nested JSON responses into typed, traceable tables.

rules = mukret.load_rules("feed.rules.yaml")
result = mukret.extract(rules, ["day1.json.gz"])
for name, batch in mukret.stream(rules, ["day1.json.gz"]): ...
one = mukret.extract_one(rules, response.json())
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from mukret.version import __version__

if TYPE_CHECKING:
    from mukret.documents import Origin
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
    from mukret.semantics.one import One, extract_one

__all__ = [
    "ExpressionError",
    "InputError",
    "MukretError",
    "One",
    "Origin",
    "OutputError",
    "PathSyntaxError",
    "Result",
    "Rules",
    "RulesError",
    "StoppedError",
    "UsageError",
    "__version__",
    "extract",
    "extract_one",
    "load_rules",
    "parse_path",
    "stream",
]

_HOMES = {
    **dict.fromkeys(("extract", "stream", "Result"), "mukret.engine.interface"),
    **dict.fromkeys(("extract_one", "One"), "mukret.semantics.one"),
    "Origin": "mukret.documents",
    **dict.fromkeys(("Rules", "load_rules"), "mukret.rules"),
    "parse_path": "mukret.paths",
}


def __getattr__(name: str) -> Any:
    """Public names are imported when they are first used, so that `mukret --help` loads next to
    nothing.
    """
    if name not in __all__:
        raise AttributeError(f"module 'mukret' has no attribute {name!r}")
    return getattr(import_module(_HOMES.get(name, "mukret.errors")), name)
