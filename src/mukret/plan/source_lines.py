"""The text of generated functions, and the objects that they use by name."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from mukret.values import JsonValue, holds_nothing


def holds(node: JsonValue) -> bool:
    """Whether something stands there: not null, or an empty text, array or object."""
    return not holds_nothing(node)


def other_rows(nodes: Iterable[JsonValue], kind: type) -> list[int]:
    """The numbers of the nodes that hold something and are of another type."""
    return [row for row, node in enumerate(nodes) if type(node) is not kind and holds(node)]


class Source:
    """Lines of Python with their indentation."""

    def __init__(self) -> None:
        self.lines: list[str] = []
        self.depth = 0
        self.count = 0
        self.scope: dict[str, Any] = {"holds": holds, "other_rows": other_rows}

    def bind(self, prefix: str, value: object) -> str:
        """A name by which the code can use an object."""
        for name, bound in self.scope.items():
            if bound is value:
                return name
        name = self.fresh(prefix)
        self.scope[name] = value
        return name

    def add(self, line: str) -> None:
        self.lines.append("    " * self.depth + line)

    def fresh(self, prefix: str) -> str:
        self.count += 1
        return f"{prefix}{self.count}"

    def compiled(self, name: str) -> Any:
        exec(compile("\n".join(self.lines), f"<generated {name}>", "exec"), self.scope)
        return self.scope["generated"]
