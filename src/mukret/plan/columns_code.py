"""Generated column code: raw values of the simple fields of a table, a step of their paths at a time for all rows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from mukret.paths import Index, Name, Path
from mukret.plan.source_lines import Source
from mukret.values import JsonValue

Suspects = Sequence[tuple[frozenset[int], Sequence[int]]]
"""Rows in which a step met another kind, each time with the columns that this concerns."""

Columns = Callable[[Sequence[JsonValue]], tuple[Sequence[Sequence[JsonValue]], list[int], Suspects]]
"""Rows in; the raw values of each simple field, the numbers of the rows that are no objects, and the suspects, out."""


@dataclass
class _Branch:
    """A node of the tree of simple paths: the columns that end here, and the steps that go on."""

    columns: list[int] = field(default_factory=list)
    steps: dict[Name | Index, _Branch] = field(default_factory=dict)

    def add(self, path: Path, column: int) -> None:
        branch = self
        for segment in path.segments:
            step = segment.only
            assert isinstance(step, Name | Index)
            branch = branch.steps.setdefault(step, _Branch())
        branch.columns.append(column)

    def all_columns(self) -> frozenset[int]:
        """The columns that end here or further on."""
        return frozenset(self.columns).union(*(below.all_columns() for below in self.steps.values()))


def columns_function(simple: Sequence[Path]) -> Columns:
    """A function that gives the values of singular paths in rows: a step at a time for all rows, which costs half of
    what a row at a time does."""
    source = Source()
    tree = _Branch()
    for number, path in enumerate(simple):
        tree.add(path, number)
    source.add("def generated(rows):")
    source.depth = 1
    source.add("some = any_but(rows, dict)")
    source.add("odd = [row for row, node in enumerate(rows) if type(node) is not dict] if some else []")
    source.add("suspects = []")
    _steps(source, tree, "rows", "some")
    source.add(f"return [{', '.join(f'column{number}' for number in range(len(simple)))}], odd, suspects")
    source.scope["any_but"] = _any_but
    columns: Columns = source.compiled(f"columns {', '.join(path.text for path in simple)[:80]}")
    return columns


def _any_but(nodes: Sequence[JsonValue], kind: type) -> bool:
    """Whether some of the nodes are of another type."""
    return not set(map(type, nodes)) <= {kind}


def _steps(source: Source, branch: _Branch, nodes: str, some: str = "") -> None:
    """Code for a node of the tree of paths: `nodes` holds what stands there, a value for each row. `some`: the variable
    that says whether any of them is no object, if that is known."""
    for number in branch.columns:
        source.add(f"column{number} = {nodes}")
    if not some and any(isinstance(step, Name) for step in branch.steps):
        some = source.fresh("some")
        source.add(f"{some} = any_but({nodes}, dict)")
    for step, below in branch.steps.items():
        concerned = source.bind("concerned", below.all_columns())
        found = f"column{below.columns[0]}" if below.columns else source.fresh("nodes")
        if isinstance(step, Name):
            value = f"n.get({step.name!r})"
            source.add(f"if {some}:")
            source.add(f"    suspects.append(({concerned}, other_rows({nodes}, dict)))")
            source.add(f"    {found} = [{value} if type(n) is dict else None for n in {nodes}]")
            source.add("else:")
            source.add(f"    {found} = [{value} for n in {nodes}]")
        else:
            index = step.index
            reached = f"type(n) is list and len(n) >= {index + 1 if index >= 0 else -index}"
            source.add(f"if any_but({nodes}, list):")
            source.add(f"    suspects.append(({concerned}, other_rows({nodes}, list)))")
            source.add(f"{found} = [n[{index}] if {reached} else None for n in {nodes}]")
        _steps(source, below, found)
