"""The names of tables and fields in a rules file, sound or not: for whoever is still typing."""

from __future__ import annotations

from pathlib import Path

from mukret.rules.include import Includer
from mukret.rules.reader import Reader
from mukret.rules.source import Mapping, Node, Problems, Scalar, Sequence, SourceText


def outline(file: str) -> dict[str, list[str]]:
    """The fields of each table, those that it inherits first; nothing for a file that is no YAML.

    Raises OSError, and UnicodeError for what is no text.
    """
    tree = Includer(Reader(Problems())).tree(
        SourceText(file, Path(file).read_text(encoding="utf-8-sig"))
    )
    tables = tree.get("tables") if tree is not None else None
    if not isinstance(tables, Mapping):
        return {}
    return {name: _fields(body) for name, (_, body) in tables.entries.items()}


def _fields(table: Node) -> list[str]:
    if not isinstance(table, Mapping):
        return []
    fields = table.get("fields")
    return [
        *_texts(table.get("inherit")),
        *(fields.entries if isinstance(fields, Mapping) else ()),
        *_texts(table.get("rest")),
    ]


def _texts(node: Node | None) -> list[str]:
    items = node.items if isinstance(node, Sequence) else [node]
    return [item.text for item in items if isinstance(item, Scalar)]
