"""The text of generated functions, and the objects that they use by name."""

from __future__ import annotations

from typing import Any

from msgspec import UNSET

from mukret.engine.places import Place, objects_at


class Source:
    """Lines of Python with their indentation."""

    def __init__(self) -> None:
        self.lines: list[str] = []
        self.depth = 0
        self.count = 0
        self.scope: dict[str, Any] = {"UNSET": UNSET}

    def bind(self, prefix: str, value: object) -> str:
        """A name by which the code can use an object."""
        for name, bound in self.scope.items():
            if bound is value:
                return name
        name = self.fresh(prefix)
        self.scope[name] = value
        return name

    def is_object(self, node: str, place: Place | None) -> str:
        """The condition that a node is an object."""
        return f"type({node}) is {self.bind('Record', objects_at(place)) if objects_at(place) is not dict else 'dict'}"

    def add(self, line: str) -> None:
        self.lines.append("    " * self.depth + line)

    def fresh(self, prefix: str) -> str:
        self.count += 1
        return f"{prefix}{self.count}"

    def compiled(self, name: str) -> Any:
        exec(compile("\n".join(self.lines), f"<generated {name}>", "exec"), self.scope)
        return self.scope["generated"]
