"""Generated row code: one Python function per table, compiled once per run.

A function walks the parent nodes of a batch and finds the rows; another gathers the raw values of the simple fields out
of these. Member names enter the source as literals (`repr`), nothing else of a rules file does. Every step looks at
`type(node)`: a shape that surprises gives null or no row, never an exception.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field

from mukret.paths import Filter, Index, Name, Path, Segment, Selector, Slice, Wildcard
from mukret.plan.columns_code import Columns, Suspects, columns_function
from mukret.plan.source_lines import Source
from mukret.rules.rows import Excused, Refusal, Rows, met_fault
from mukret.types import Bad
from mukret.values import JsonValue


@dataclass
class Gathered:
    """What a generated function gives for the rows of one table in a batch.

    `owners` holds for each row the number of its parent, ascending. `columns` holds the raw values of the simple
    fields; None where there is none. `suspects` tells where a step of their paths may have met
    another kind. `odd` are the rows that are no objects, `faulty` those that can't be read, `met` those of them that
    are no rows but stand in their stead. `positions` and `names` are filled only where they were asked for, the rest
    only for rows that are found the general way: `above` is the row above each in a table that recurses, -1 for none;
    `refusals`, by parent, rows that can't be told apart.
    """

    rows: list[JsonValue]
    owners: list[int]
    columns: Sequence[Sequence[JsonValue]]
    suspects: Suspects
    odd: list[int]
    positions: list[int]
    names: list[str | None]
    depths: list[int] = field(default_factory=list)
    above: list[int] = field(default_factory=list)
    hollow: set[int] = field(default_factory=set)
    faulty: dict[int, Bad] = field(default_factory=dict)
    met: set[int] = field(default_factory=set)
    refusals: list[tuple[int, Refusal]] = field(default_factory=list)


@dataclass(frozen=True)
class Parents:
    """The nodes in which rows are looked for, and their names; some of them stand for none (`hollow`), and in some
    nothing is looked for (`unreadable`). `excused`: what is on record already below each of them."""

    nodes: Sequence[JsonValue]
    names: Sequence[str | None]
    hollow: Collection[int] = ()
    unreadable: Collection[int] = ()
    excused: Callable[[int], Excused | None] = lambda owner: None


Gather = Callable[[Parents], Gathered]


ROOT = "node"
"""The variable that holds the node in which a query begins: what `$` means in its filters."""

MOST_STEPS, MOST_LOOPS = 40, 12
"""Python nests no more than 20 loops and 100 levels of indentation; longer queries take the plain way."""


def is_compilable(path: Path) -> bool:
    """Whether a query is short enough for generated code."""
    loops = sum(not segment.singular for segment in path.segments)
    return len(path.segments) <= MOST_STEPS and loops <= MOST_LOOPS


def gather_function(  # noqa: C901  # lines of a function in their order, each with the condition under which it is there
    rows: Rows,
    simple: Sequence[Path],
    *,
    positions: bool,
    names: bool,
    below_hollow: bool = False,
) -> Gather:
    """A function that finds the rows of a table and the values of its simple fields (singular paths).

    `below_hollow`: a parent row may stand for none, and nothing may be found in it.
    """
    if not rows.plain or not all(map(is_compilable, rows.paths)):
        return general_gather(rows, simple, names=names)
    columns_of = columns_function(simple)
    source = Source()
    source.scope["Gathered"] = Gathered
    source.add("def generated(parents):")
    source.depth = 1
    source.add("rows = []; owners = []; positions = []; names = []; hollow = set(); faulty = {}")
    source.add("add_row = rows.append; add_owner = owners.append")
    source.add("parent_names = parents.names; hollow_parents = parents.hollow; unreadable = parents.unreadable")
    source.add("for owner, node in enumerate(parents.nodes):")
    source.depth = 2
    source.add("if owner in unreadable: continue")
    if positions:
        source.add("position = 0")

    def candidate(node: str) -> None:
        if rows.spread:
            node = _spread(source, node)
        if rows.when is not None:
            source.add(f"if {source.bind('when', rows.when)}.holds({node}, {ROOT}):")
            source.depth += 1
        source.add(f"add_row({node}); add_owner(owner)")
        if positions:
            source.add("positions.append(position); position += 1")
        if names:
            source.add("names.append(name)")

    def met(node: str, segment: Segment) -> None:
        fault = source.bind("fault", met_fault(segment))
        source.add(f"faulty[len(rows)] = {fault}; add_row({node}); add_owner(owner)")
        if positions:
            source.add("positions.append(position); position += 1")
        if names:
            source.add("names.append(None)")

    def all_below(node: str) -> None:
        _other_kind(source, Segment((Wildcard(),)), node, met)
        found = source.fresh("found")
        source.add(f"{found} = {_all_children(node)}")
        source.add(f"rows += {found}; owners += [owner] * len({found})")

    def all_below_anywhere(node: str) -> None:
        source.add(f"found = {_all_children(node)}")
        source.add("rows += found; owners += [owner] * len(found)")

    if rows.outer:
        source.add("before = len(rows)")
    if below_hollow:
        source.add("if owner not in hollow_parents:")
        source.depth = 3
    walking = source.depth
    nothing_else = not (positions or names or rows.spread or rows.when)
    for path in rows.paths:
        source.depth = walking
        if names and not path.segments:
            source.add("name = parent_names[owner]")  # the row is its parent's node
        if nothing_else and path.segments and path.segments[-1].only == Wildcard() and not path.segments[-1].descend:
            anywhere = any(segment.descend for segment in path.segments)
            below = all_below_anywhere if anywhere else all_below
            _walk(source, path.segments[:-1], ROOT, below, met=met)
        else:
            _walk(source, path.segments, ROOT, candidate, names=names, met=met)
    if rows.outer:
        source.depth = 2
        source.add("if len(rows) == before:")
        source.add("    hollow.add(before); add_row(None); add_owner(owner)")
        if positions:
            source.add("    positions.append(0)")
        if names:
            source.add("    names.append(None)")
    source.depth = 1
    source.add(f"columns, odd, suspects = {source.bind('columns_of', columns_of)}(rows)")
    source.add("odd = [row for row in odd if row not in hollow and row not in faulty]")
    source.add("return Gathered(")
    source.add("    rows, owners, columns, suspects, odd, positions, names,")
    source.add("    hollow=hollow, faulty=faulty, met=set(faulty),")
    source.add(")")
    gather: Gather = source.compiled(f"rows {rows.paths[0].text}")
    return gather


def _spread(source: Source, node: str) -> str:
    """Opens a loop over the elements of an array, or the one node that is no array; null gives none."""
    item = source.fresh("node")
    source.add(f"for {item} in {node} if type({node}) is list else () if {node} is None else ({node},):")
    source.depth += 1
    return item


Found = Callable[[str], None]
"""Writes what is done with a node that was found: the variable that holds it."""


Met = Callable[[str, Segment], None]
"""Writes what is done with a node at which a step met another kind: the variable that holds it, and the step."""


def _walk(
    source: Source,
    segments: Sequence[Segment],
    node: str,
    found: Found,
    *,
    names: bool = False,
    met: Met | None = None,
) -> None:
    """Code that visits the nodes of a query in order and runs `found` on each; `node` is where the query begins. `met`
    is run on what a step meets that can find nothing there."""
    if not segments:
        found(node)
        return
    segment, rest = segments[0], segments[1:]
    if segment.descend:
        met = None  # what follows looks at everything
    elif met is not None:
        _other_kind(source, segment, node, met)
    depth = source.depth
    if isinstance(segment.only, Name | Index):
        following = _single(source, segment.only, node, names)
    elif segment.descend:
        following = _below(source, segment, node, names)
    else:
        following = _several(source, segment, node, names)
    _walk(source, rest, following, found, names=names, met=met)
    source.depth = depth


def _other_kind(source: Source, segment: Segment, node: str, met: Met) -> None:
    other = " and ".join(f"type({node}) is not {kind.__name__}" for kind in segment.takes)
    source.add(f"if {other} and holds({node}):")
    source.depth += 1
    met(node, segment)
    source.depth -= 1


def _single(source: Source, selector: Name | Index, node: str, names: bool) -> str:
    """Opens a block that runs if the one child is there; gives the variable that holds it."""
    child = source.fresh("node")
    if isinstance(selector, Index):
        index = selector.index
        source.add(f"if type({node}) is list and len({node}) >= {index + 1 if index >= 0 else -index}:")
        source.depth += 1
        source.add(f"{child} = {node}[{index}]")
    else:
        source.add(f"if type({node}) is dict and {selector.name!r} in {node}:")
        source.depth += 1
        source.add(f"{child} = {node}[{selector.name!r}]")
    if names:
        source.add(f"name = {selector.name!r}" if isinstance(selector, Name) else "name = None")
    return child


def _below(source: Source, segment: Segment, node: str, names: bool) -> str:
    """Opens a loop over what a descendant segment finds, by the segment itself."""
    found, child = source.bind("segment", segment), source.fresh("node")
    if names:
        source.add(f"for name, {child} in {found}.children({node}, {ROOT}):")
        source.depth += 1
        source.add("if type(name) is not str: name = None")
    else:
        source.add(f"for {child} in {found}.values({node}, {ROOT}):")
        source.depth += 1
    return child


def _several(source: Source, segment: Segment, node: str, names: bool) -> str:
    """Opens a loop over the children that the selectors give; gives the variable that holds each."""
    children, child = source.fresh("children"), source.fresh("node")
    if isinstance(segment.only, Wildcard) and not names:
        source.add(f"for {child} in {_all_children(node)}:")
        source.depth += 1
        return child
    source.add(f"{children} = []")
    for selector in segment.selectors:
        _children(source, selector, node, children, names)
    source.add(f"for {'name, ' if names else ''}{child} in {children}:")
    source.depth += 1
    return child


def _all_children(node: str) -> str:
    return f"{node} if type({node}) is list else {node}.values() if type({node}) is dict else ()"


def _children(source: Source, selector: Selector, node: str, children: str, names: bool) -> None:
    def pair(name: str, value: str) -> str:
        return f"({name}, {value})" if names else value

    unnamed = "[(None, child) for child in {}]" if names else "{}"
    match selector:
        case Name(name):
            source.add(f"if type({node}) is dict and {name!r} in {node}:")
            source.add(f"    {children}.append({pair(repr(name), f'{node}[{name!r}]')})")
        case Index(index):
            source.add(f"if type({node}) is list and len({node}) >= {index + 1 if index >= 0 else -index}:")
            source.add(f"    {children}.append({pair('None', f'{node}[{index}]')})")
        case Slice(start, end, step):
            if step == 0:
                return
            source.add(f"if type({node}) is list:")
            chosen = f"{node}[{start}:{end}:{step}]"
            source.add(f"    {children}.extend({unnamed.format(chosen)})")
        case Filter():
            chosen = f"{source.bind('filter', selector)}.select({node}, {ROOT})"
            named = "step if type(step) is str else None"
            source.add(f"{children}.extend([{pair(named, 'child')} for step, child in {chosen}])")
        case _:
            source.add(f"if type({node}) is list:")
            source.add(f"    {children}.extend({unnamed.format(node)})")
            source.add(f"elif type({node}) is dict:")
            source.add(f"    {children}.extend({node}.items())" if names else f"    {children}.extend({node}.values())")


Nodes = Callable[[Sequence[JsonValue]], tuple[list[list[JsonValue]], list[int]]]
"""Rows in; for each row the values that a field is made of, and the rows in which a path met another kind, out."""


def nodes_function(paths: Sequence[Path], *, with_nulls: bool) -> Nodes:
    """A function that gives for each row the nodes of the first path that finds a value other than null.

    Nulls are left out unless `with_nulls`; where no path finds a value, the first path's nodes count.
    """
    if not all(map(is_compilable, paths)):
        return _plain_nodes(paths, with_nulls)
    source = Source()
    source.add("def generated(rows):")
    source.depth = 1
    source.add("column = []; suspects = []")
    source.add("for row, node in enumerate(rows):")
    source.depth = 2
    source.add("other = False")

    def met(_: str, __: Segment) -> None:
        source.add("other = True")

    for number, path in enumerate(paths):
        source.add(f"found{number} = []")
        _walk(
            source,
            path.segments,
            "node",
            lambda child, n=number: source.add(f"found{n}.append({child})"),  # type: ignore[misc]
            met=met,
        )
        source.add(f"values = [child for child in found{number} if child is not None]")
        source.add("if values:")
        source.add(f"    column.append(found{number})" if with_nulls else "    column.append(values)")
        source.add("    if other: suspects.append(row)")
        source.add("    continue")
    source.add("column.append(found0)" if with_nulls else "column.append([])")
    source.add("if other: suspects.append(row)")
    source.depth = 1
    source.add("return column, suspects")
    function: Nodes = source.compiled(f"nodes {paths[0].text}")
    return function


def existence_function(path: Path) -> Callable[[Sequence[JsonValue]], bool]:
    """A function that says whether a query finds anything below any of some nodes."""
    if not is_compilable(path):
        return lambda nodes: any(path.values(node) for node in nodes)
    source = Source()
    source.add("def generated(nodes):")
    source.depth = 1
    source.add("for node in nodes:")
    source.depth = 2
    _walk(source, path.segments, "node", lambda _: source.add("return True"))
    source.depth = 1
    source.add("return False")
    function: Callable[[Sequence[JsonValue]], bool] = source.compiled(f"exists {path.text}")
    return function


# ---- the plain way, for rows that are more than nodes, and for queries that are too long


def general_gather(rows: Rows, simple: Sequence[Path], *, names: bool) -> Gather:
    """A function as `gather_function` gives it, by the plain way of finding rows."""
    if all(map(is_compilable, simple)):
        columns_of = columns_function(simple)
    else:
        columns_of = _plain_columns(simple)

    def gather(parents: Parents) -> Gathered:
        found = Gathered([], [], [], [], [], [], [])
        for owner, parent in enumerate(parents.nodes):
            if owner in parents.unreadable:
                continue
            below = rows.find(parent, hollow=owner in parents.hollow, excused=parents.excused(owner))
            if below.refusal is not None:
                found.refusals.append((owner, below.refusal))
            first = len(found.rows)
            for number, row in enumerate(below.rows, first):
                found.rows.append(row.node)
                found.owners.append(owner)
                found.positions.append(row.position)
                found.names.append(row.name(parents.names[owner] if parents.names else None) if names else None)
                found.depths.append(row.depth)
                found.above.append(-1 if row.above is None else first + row.above)
                if row.hollow:
                    found.hollow.add(number)
                if row.fault is not None:
                    found.faulty[number] = row.fault
                if row.met:
                    found.met.add(number)
        found.columns, _, found.suspects = columns_of(found.rows)
        return found

    return gather


def _plain_columns(simple: Sequence[Path]) -> Columns:
    def columns(rows: Sequence[JsonValue]) -> tuple[Sequence[Sequence[JsonValue]], list[int], Suspects]:
        reached = [[path.explored(row) for row in rows] for path in simple]
        values = [
            [next((item.value for item in items if item.step is None), None) for items in column] for column in reached
        ]
        suspects = [
            (frozenset([number]), [row for row, items in enumerate(column) if any(item.step for item in items)])
            for number, column in enumerate(reached)
        ]
        return values, [number for number, row in enumerate(rows) if type(row) is not dict], suspects

    return columns


def _plain_nodes(paths: Sequence[Path], with_nulls: bool) -> Nodes:
    def nodes(rows: Sequence[JsonValue]) -> tuple[list[list[JsonValue]], list[int]]:
        column = []
        for row in rows:
            found = [path.values(row) for path in paths]
            chosen = next((values for values in found if any(value is not None for value in values)), found[0])
            column.append(chosen if with_nulls else [value for value in chosen if value is not None])
        others = [
            number for number, row in enumerate(rows) if any(item.step for path in paths for item in path.explored(row))
        ]
        return column, others

    return nodes
