"""Paths to one record that met a list of records, or the other way round: one warning, with the
path to write.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice

from mukret.engine.table_rows import TableRows
from mukret.paths import Name, Path, Wildcard, child_segment
from mukret.paths.locate import path_text
from mukret.rules.model import Table
from mukret.rules.sources import At
from mukret.values import JsonValue

MOST_ROWS = 200
# So many rows of a batch that are no objects, and so many elements of each, are looked at.
LOOKED_AT = 5


@dataclass(frozen=True)
class Misshapen:
    """Rows of a table that came as a list of records (`lists`), or as the members of one; `write`
    is the path that finds the records.
    """

    table: str
    path: str
    lists: bool
    write: str
    file: str
    line: int
    column: int

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "table": self.table,
            "path": self.path,
            "lists": self.lists,
            "write": self.write,
        }


class Shapes:
    """What is found in the batches of a run: the first case of each table, and the tables of which
    some row came as the rules want it.
    """

    def __init__(self) -> None:
        self.found: dict[str, Misshapen] = {}
        self.sound: set[str] = set()

    def see(self, rows: TableRows) -> None:
        table = rows.table
        if rows.parent is None or not table.judges_shape:
            return
        # One sound row is enough to say that the rules fit; one odd case, which is shown.
        odd = [*rows.gathered.odd, *rows.gathered.faulty]
        if table.name not in self.found:
            cases = (_case(rows, row) for row in odd[:LOOKED_AT])
            self.found.update(
                (table.name, case) for case in islice(filter(None, cases), 1)
            )
        if table.name not in self.sound and any(
            _is_sound(rows, row, alone=not odd) for row in _some_rows(rows)
        ):
            self.sound.add(table.name)

    @property
    def all_otherwise(self) -> set[str]:
        """The tables of which nothing came as the rules want it."""
        return self.found.keys() - self.sound


def _some_rows(rows: TableRows) -> Iterator[int]:
    unreadable = {*rows.gathered.odd, *rows.gathered.faulty, *rows.placeholders}
    return islice(
        (row for row in range(rows.count) if row not in unreadable), MOST_ROWS
    )


def _is_sound(rows: TableRows, row: int, *, alone: bool) -> bool:
    """Whether a row that can be read is one; beside others that can't it may be a member of a
    record.
    """
    if alone:
        return True
    node = rows.locate(row)[1]
    return not any(
        # The same object, not an equal one.
        node is member
        for record in _records_around(rows, row)
        for member in record.values()
    )


def _records_around(rows: TableRows, row: int) -> Iterator[dict[str, JsonValue]]:
    """Objects of which a path takes all members for rows,
    and that seem to be a record themselves.
    """
    assert rows.parent is not None
    above = rows.parent.locate(rows.owners[row])[1]
    names = _first_names(rows.table)
    for path in filter(_goes_into, rows.table.rows.paths):
        for record in Path("", path.segments[:-1]).values(above):
            # A third of the first names of the rules: then it looks like what they mean by a row.
            if type(record) is dict and 3 * sum(
                name in record for name in names
            ) >= len(names):
                yield record


def _case(rows: TableRows, row: int) -> Misshapen | None:
    table = rows.table
    names = _first_names(table)
    node = rows.locate(row)[1]
    # Lists where records were wanted: the same path, one step further, would find them.
    if type(node) is list and any(
        type(element) is dict and not names.isdisjoint(element)
        for element in node[:LOOKED_AT]
    ):
        for path in table.rows.paths:
            if not _goes_into(path):
                return _misshapen(
                    table,
                    path,
                    Path("", (*path.segments, child_segment(Wildcard()))),
                    lists=True,
                )
    # The members of one record, each taken for a row: the path goes a step too far.
    if next(_records_around(rows, row), None) is not None:
        path = next(filter(_goes_into, table.rows.paths))
        return _misshapen(table, path, Path("", path.segments[:-1]), lists=False)
    return None


def _goes_into(path: Path) -> bool:
    """Whether a path ends in a wildcard."""
    return bool(path.segments) and isinstance(path.segments[-1].only, Wildcard)


def _misshapen(table: Table, path: Path, write: Path, *, lists: bool) -> Misshapen:
    written = path_text(path.segments)
    return Misshapen(
        table.name,
        written,
        lists,
        path_text(write.segments),
        table.file,
        table.line,
        table.column,
    )


def _first_names(table: Table) -> frozenset[str]:
    """The members with which the paths of a table's fields begin."""
    return frozenset(_names(table))


def _names(table: Table) -> Iterator[str]:
    for field in table.fields:
        if isinstance(field.source, At):
            for selector in field.source.paths[0].segments[0].selectors:
                assert isinstance(selector, Name)
                yield selector.name
