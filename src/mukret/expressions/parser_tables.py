"""The parser's tables, made ahead: making them out of the grammar takes a fifth of a second at each
start.

They belong to one version of the grammar and one of the library; for any other they are made anew.
"""

from __future__ import annotations

import hashlib
import io
import json
import pickle
import pkgutil
from typing import Any

import lark
from lark import Lark

GRAMMAR, TABLES = "sql.lark", "sql.tables.json"
# JSON has no numbers for member names: a mapping with such is a list of pairs under this name.
_NUMBERED = "#"


def parser() -> Lark:
    """The parser of expressions."""
    grammar = _text(GRAMMAR)
    try:
        made = json.loads(_text(TABLES), object_hook=_unpacked)
    except FileNotFoundError:
        return made_anew(grammar)
    if made["of"] != version_of(grammar):
        return made_anew(grammar)
    # The library loads what it saved, which it does as a pickle. A text is kept of that, which
    # people and version control can read.
    saved = {"data": made["data"], "memo": made["memo"]}
    return Lark.load(io.BytesIO(pickle.dumps(saved)))


def made_anew(grammar: str) -> Lark:
    """The parser, out of the text of the grammar."""
    return Lark(
        grammar,
        parser="lalr",
        lexer="basic",
        propagate_positions=True,
        maybe_placeholders=True,
    )


def tables_of(grammar: str) -> str:
    """The tables of a grammar as JSON text."""
    saved = io.BytesIO()
    made_anew(grammar).save(saved)
    parts = pickle.loads(saved.getvalue())
    made = {
        "of": version_of(grammar),
        "data": _packed(parts["data"]),
        "memo": _packed(parts["memo"]),
    }
    return json.dumps(made, separators=(",", ":"), sort_keys=True) + "\n"


def version_of(grammar: str) -> str:
    """What tables belong to."""
    return f"lark {lark.__version__}, grammar {hashlib.sha256(grammar.encode()).hexdigest()}"


def _text(name: str) -> str:
    return (
        pkgutil.get_data("mukret.expressions", name) or b""
    ).decode()  # a tenth of what importlib.resources takes


def _packed(value: Any) -> Any:
    if isinstance(value, dict):
        # JSON has texts as keys alone: numbers would come back as such.
        if any(isinstance(name, int) for name in value):
            return {_NUMBERED: [[name, _packed(item)] for name, item in value.items()]}
        return {name: _packed(item) for name, item in value.items()}
    return (
        [_packed(item) for item in value]
        if isinstance(value, list | tuple | set | frozenset)
        else value
    )


def _unpacked(value: dict[str, Any]) -> dict[Any, Any]:
    return dict(value[_NUMBERED]) if _NUMBERED in value else value
