"""Which rules found nothing in all of the input, and what stands nearest to what they look for."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from itertools import islice

import pyarrow.compute as pc

from mukret.columns.arrow import any_true
from mukret.engine.decided import DecidedTable
from mukret.engine.misshapen import Shapes
from mukret.engine.table_rows import TableRows
from mukret.engine.typed_columns import TypedColumns
from mukret.paths import Path, nearest_existing
from mukret.plan.compiled import Plan
from mukret.plan.plainly import finds_something
from mukret.rules.model import RESPONSE, Embedded, Field, Table
from mukret.rules.sources import At, Fact, Lookup
from mukret.values import JsonValue

KEPT_NODES = 200
# So many different keys are remembered for a lookup that has found nothing.
MOST_KEYS = 10_000
# Stands for the path from a row to those below it, where the paths to rows are numbered.
RECURSE = -1


@dataclass(frozen=True)
class Unmatched:
    """A rule that found nothing.

    `field` is None for the rows of a table; `hint` names what is there instead.
    """

    table: str
    field: str | None
    path: str
    file: str
    line: int
    column: int
    hint: str | None
    fact: bool = False
    """Whether `path` names a fact, and no place in a document."""

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "table": self.table,
            "field": self.field,
            "path": self.path,
            "hint": self.hint,
        }


@dataclass
class _Open:
    """A rule that has found nothing so far, and some nodes in which it looked, with all that stands
    in them: `paths`, or what `text` says.
    """

    paths: tuple[Path, ...]
    text: str
    rule: Field | Table | Embedded
    nodes: list[JsonValue] = field(default_factory=list)
    locals: set[int] = field(default_factory=set)
    """Of a lookup: hashes of values that were looked for, and of keys that were there, in whatever
    document.
    """
    keys: set[int] = field(default_factory=set)

    @property
    def keys_stand_elsewhere(self) -> bool:
        return not self.locals.isdisjoint(self.keys)


class Coverage:
    """A rule that has found something is never looked at again; only the others cost time."""

    def __init__(self, plan: Plan) -> None:
        self.shapes = Shapes()
        self.tables = [table_plan.table for table_plan in plan.tables]
        self.embedded = plan.rules.embedded
        # By table, and name of the field or number of the path to rows (of the response: to
        # embedded texts).
        self.open: dict[tuple[str, str | int], _Open] = {}
        for number, embedded in enumerate(plan.rules.embedded):
            self.open[RESPONSE, number] = _Open(
                (embedded.path,), embedded.path.text, embedded
            )
        for table_plan in (plan.response, *plan.tables):
            table = table_plan.table
            if table.name != RESPONSE:
                for number, path in enumerate(table.rows.named_paths):
                    self.open[table.name, number] = _Open((path,), path.text, table)
                if table.rows.recurse is not None:
                    self.open[table.name, RECURSE] = _Open(
                        (table.rows.recurse,), table.rows.recurse.text, table
                    )
            for own_field in table.fields:
                match own_field.source:
                    case At(paths=paths):
                        self.open[table.name, own_field.name] = _Open(
                            paths, paths[0].text, own_field
                        )
                    case Lookup() as lookup:
                        what = f"the lookup in {lookup.name} by {', '.join(lookup.by)}"
                        self.open[table.name, own_field.name] = _Open(
                            (), what, own_field
                        )
                    case Fact(name=name) if not own_field.source.of_row:
                        self.open[table.name, own_field.name] = _Open(
                            (), f"the fact {name}", own_field
                        )

    def see(self, table: DecidedTable) -> None:
        name, rows = table.name, table.rows
        self.shapes.see(rows)
        self.see_keys(table)
        if rows.parent is None:
            for number in range(len(self.embedded)):
                if (name, number) in self.open:
                    self.look(name, number, rows, range(rows.count), is_found=False)
        else:
            self.see_paths(name, rows, rows.parent)
        for own_field in table.table.fields:
            if (name, own_field.name) in self.open:
                # a default fills the column whether or not anything was found
                is_found = own_field.default is None and any_true(
                    pc.is_valid(table.columns.array(own_field.name))
                )
                self.look(
                    name, own_field.name, rows, range(rows.count), is_found=is_found
                )

    def see_paths(self, name: str, rows: TableRows, parent: TableRows) -> None:
        """Whether the paths to the rows of a table found any."""
        if (name, RECURSE) in self.open:
            is_found = any(above >= 0 for above in rows.gathered.above)
            self.look(name, RECURSE, rows, range(rows.count), is_found=is_found)
        paths = rows.table.rows.named_paths
        for number in range(len(paths)):
            if (name, number) in self.open:
                others = len(rows.placeholders) + len(rows.gathered.met)
                # Of several paths rows don't say which of them found them.
                is_found = rows.count > others and len(paths) == 1
                self.look(name, number, parent, _looked_in(rows), is_found=is_found)

    def see_keys(self, seen: DecidedTable) -> None:
        """Notes what lookups that have found nothing looked for in these rows, or could have found
        there.
        """
        columns = seen.columns
        for (table, _), rule in self.open.items():
            source = rule.rule.source if isinstance(rule.rule, Field) else None
            if (
                not isinstance(source, Lookup)
                or source.table is None
                or source.across_run
            ):
                continue
            if table == seen.name and len(rule.locals) < MOST_KEYS:
                # Hashes are enough to tell whether a key stands in another document: the hint, no
                # value, hangs on it.
                rule.locals |= _hashes(
                    source, columns, source.by, range(seen.rows.count)
                )
            if source.table == seen.name and len(rule.keys) < MOST_KEYS:
                rule.keys |= _hashes(source, columns, source.key, columns.surviving)

    def look(
        self,
        table: str,
        part: str | int,
        among: TableRows,
        rows: Sequence[int],
        *,
        is_found: bool,
    ) -> None:
        """Looks for what a rule wants in some rows of a table."""
        rule = self.open[table, part]
        if not is_found:
            nodes = (
                among.nodes
                if len(rows) == among.count
                else [among.nodes[row] for row in rows]
            )
            is_found = any(finds_something(path, nodes) for path in rule.paths)
        if is_found:
            del self.open[table, part]
        else:
            # A few nodes are kept for the hint: what the rule could have meant is looked for among
            # them at the end.
            sample_rows = rows[: KEPT_NODES - len(rule.nodes)]
            rule.nodes += [among.locate(row)[1] for row in sample_rows]

    def told_otherwise(self) -> set[str]:
        """The tables of which nothing was found since all came in another shape, which is told as
        one thing.
        """
        told: set[str] = set()
        for table in self.tables:
            if table.name in self.shapes.all_otherwise or table.within in told:
                told.add(table.name)
        return told

    def still_open(self) -> list[tuple[str, str | None, str]]:
        """Table, field and path of each rule that has found nothing, also where there was nothing
        to look in.
        """
        rules = []
        for (table, part), rule in self.open.items():
            field = part if isinstance(part, str) else None
            rules.append((table, field, rule.text))
        return rules

    def unmatched(self) -> list[Unmatched]:
        """The rules that found nothing; fields of a table without rows are left out, since their
        table says it all, and those of a table of which nothing came in the shape that the rules
        want.
        """
        told = self.told_otherwise()
        unmatched = []
        for (table, member), rule in self.open.items():
            # Without a node to look in there was no row: what the table itself says of that is
            # enough.
            of_a_row = not isinstance(rule.rule, Table) or member == RECURSE
            if table in told or (of_a_row and not rule.nodes):
                continue
            owner = rule.rule
            unmatched.append(
                Unmatched(
                    table,
                    member if isinstance(member, str) else None,
                    rule.text,
                    owner.file,
                    owner.line,
                    owner.column,
                    _hint(rule),
                    isinstance(owner, Field) and isinstance(owner.source, Fact),
                )
            )
        return unmatched


def _looked_in(rows: TableRows) -> Sequence[int]:
    """The rows of the parent in which rows were looked for: not placeholders, nor documents of
    another kind.
    """
    assert rows.parent is not None
    placeholders, belongs, numbers = (
        rows.parent.placeholders,
        rows.belongs,
        range(rows.parent.count),
    )
    if not placeholders and belongs is None:
        return numbers
    # Placeholders of an outer join have no node, and documents of another kind are not looked into.
    return [
        number
        for number in numbers
        if number not in placeholders and (belongs is None or belongs(number))
    ]


def _hashes(
    lookup: Lookup, table: TypedColumns, names: Sequence[str], rows: Iterable[int]
) -> set[int]:
    """Of the values of some fields, as a lookup compares them; a bounded number."""
    columns = [table.array(name).to_pylist() for name in names]
    forms = (lookup.form(_key(columns, row)) for row in rows)
    return set(islice((hash(form) for form in forms if form is not None), MOST_KEYS))


def _why_nothing(own_field: Field, *, elsewhere: bool) -> str:
    lookup = own_field.source
    if isinstance(lookup, Lookup):
        by, key = ", ".join(lookup.by), ", ".join(lookup.key)
        # The most frequent reason: it stands in a document of its own.
        if elsewhere:
            return (
                f"no value of {by} is a key of {lookup.name} in the same document, but in "
                "others: across: run"
            )
        where = " in any document" if lookup.across_run else ""
        return f"no value of {by} is a key ({key}) of {lookup.name}{where}"
    return (
        "responses that collect kept have it, and those of an HTTP archive some of it"
    )


def _hint(rule: _Open) -> str | None:
    """Why a rule found nothing, as far as that can be told."""
    # A path was never asked: nothing can be said of it.
    if isinstance(rule.rule, Table) and not rule.nodes:
        kind = rule.rule.kind if rule.rule.within is None else None
        if kind:
            return f"no document of the kind {kind} came"
        return "the table that it is within has no rows"
    if isinstance(rule.rule, Field) and not rule.paths:
        return _why_nothing(rule.rule, elsewhere=rule.keys_stand_elsewhere)
    near = (
        nearest_existing(rule.paths[0], rule.nodes)
        if rule.nodes and rule.paths
        else None
    )
    return near.text if near else None


def _key(columns: Sequence[list[object]], row: int) -> tuple[object, ...]:
    return tuple(column[row] for column in columns)
