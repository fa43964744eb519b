"""A wanted row as an example of the rules: the response in which it was found, cut down to what
they read of it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import pyarrow as pa

from mukret.columns.types import written
from mukret.documents import Source
from mukret.drafting.text import flow
from mukret.drafting.wanted.candidates import MOST_BYTES
from mukret.drafting.wanted.matching import same
from mukret.drafting.wanted.rows import WantedTable
from mukret.engine.decided import DecidedRows, DecidedTable
from mukret.engine.run import Run
from mukret.errors import RulesError
from mukret.paths import Location, Name, Path
from mukret.rules import parse_rules
from mukret.rules.sources import At
from mukret.semantics.examples import run_examples
from mukret.types import Json, ListOf
from mukret.values import JsonValue, json_text

# A longer response helps nobody who reads the rules.
MOST_CHARACTERS = 1_500


def with_examples(
    text: str, file: str, sources: Sequence[Source], wanted: Sequence[WantedTable]
) -> str:
    """Rules with an example for each wanted table, where one can be cut out that is short and
    holds.
    """
    for table in wanted:
        example = _example(text, file, sources, table)
        if example is not None:
            longer = (
                text + ("" if "\nexamples:\n" in text else "\nexamples:\n") + example
            )
            # Tried before it is kept: an example that fails would be worse than none.
            if _holds(longer, file):
                text = longer
    return text


def _holds(text: str, file: str) -> bool:
    try:
        return all(outcome.passed for outcome in run_examples(parse_rules(text, file)))
    except RulesError:  # a value that can't be written in an example
        return False


def _example(
    text: str, file: str, sources: Sequence[Source], wanted: WantedTable
) -> str | None:
    for source in sources:
        source.rewind()
    for rows in Run(
        parse_rules(text, file), sources, most_bytes=MOST_BYTES
    ).decided_rows(whole=True):
        table = rows.tables.get(wanted.name)
        for row, cells in _written(table) if table is not None else ():
            assert table is not None
            kinds = dict(table.table.columns)
            # The first wanted row: one example for a table shows how it is meant.
            typed = zip(wanted.columns, wanted.rows[0].cells, strict=True)
            if all(same(kinds[name], cells[name], cell) for name, cell in typed):
                return _lines(rows, table, row, cells)
    return None


def _written(table: DecidedTable) -> Iterator[tuple[int, dict[str, str | None]]]:
    """The rows that are written, as texts."""
    columns = {}
    for name, kind in table.table.columns:
        array = table.columns.array(name)
        plain = array.cast(pa.string()) if pa.types.is_dictionary(array.type) else array
        columns[name] = written(plain, kind).to_pylist()
    for row in table.written_rows:
        yield row, {name: texts[row] for name, texts in columns.items()}


def _lines(
    rows: DecidedRows, table: DecidedTable, row: int, cells: dict[str, str | None]
) -> str | None:
    document = rows.batch.whole(table.rows.document(row))
    response = _cut(document, table.rows.place(row).location, _names(rows))
    # Cut down it may still be long, where fields look far away.
    if len(json_text(response)) > MOST_CHARACTERS:
        return None
    kinds = dict(table.table.columns)
    gives = {
        name: cell
        for name, cell in cells.items()
        if cell is not None and not isinstance(kinds[name], ListOf | Json)
    }
    return (
        f"  - shows: a wanted row of {table.name}\n    response: {flow(response)}\n"
        f"    gives:\n      {table.name}:\n        - {flow(dict(gives))}\n"
    )


def _names(rows: DecidedRows) -> frozenset[str]:
    """The members that the rules name somewhere; of others, which may be nobody's business, nothing
    is shown.
    """
    names: set[str] = set()
    for table in rows.tables.values():
        for field in table.table.fields:
            if isinstance(field.source, At):
                names.update(_named_in(field.source.paths))
    return frozenset(names)


def _named_in(paths: Sequence[Path]) -> Iterator[str]:
    """The names of members in some paths."""
    for path in paths:
        for segment in path.segments:
            for selector in segment.selectors:
                if isinstance(selector, Name):
                    yield selector.name


def _cut(node: JsonValue, location: Location, names: frozenset[str]) -> JsonValue:
    """What lies on the way: of arrays the one element, of objects the member and those beside it
    that are read.
    """
    if not isinstance(node, dict | list):
        return node
    if not location:
        return _read_members(node, names) if isinstance(node, dict) else node
    step, rest = location[0], location[1:]
    if isinstance(node, list):
        return [_cut(node[int(step)], rest, names)]
    cut: dict[str, JsonValue] = {}
    for name, child in node.items():
        if name == step:
            cut[name] = _cut(child, rest, names)
        # Beside the way scalars alone: what they are in says little without them.
        elif name in names and not isinstance(child, dict | list):
            cut[name] = child
    return cut


def _read_members(
    node: Mapping[str, JsonValue], names: frozenset[str]
) -> dict[str, JsonValue]:
    return {name: child for name, child in node.items() if name in names}
