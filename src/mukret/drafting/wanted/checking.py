"""Whether rules give the rows that are wanted, over all of the input."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import pyarrow as pa

from mukret.columns.types import written
from mukret.documents import Source
from mukret.drafting.wanted.matching import same
from mukret.drafting.wanted.rows import WantedRow, WantedTable
from mukret.engine.run import Run
from mukret.rules.model import Rules
from mukret.types import ValueType

Texts = Mapping[str, str | None]


def not_given(
    rules: Rules, sources: Sequence[Source], wanted: Sequence[WantedTable]
) -> Iterator[WantedRow]:
    """The wanted rows that are not among those of the tables, and the unwanted ones that are."""
    waiting = {table.name: list(table.rows) for table in wanted}
    wrong: list[WantedRow] = []
    for name, kinds, row in _rows(rules, sources):
        for table in wanted:
            if table.name != name:
                continue
            # Each wanted row once: what is found is not looked for any more.
            waiting[name] = [
                typed for typed in waiting[name] if not _is(table, typed, row, kinds)
            ]
            wrong += [
                typed for typed in table.unwanted if _is(table, typed, row, kinds)
            ]
    for rows in waiting.values():
        yield from rows
    yield from wrong


def _rows(
    rules: Rules, sources: Sequence[Source]
) -> Iterator[tuple[str, Mapping[str, ValueType], Texts]]:
    for source in sources:
        # Over all of the input: the draft has been made of its beginning.
        source.rewind()
    for output in Run(rules, sources).batches():
        for name, batch in output.tables.items():
            kinds = dict(rules.tables[name].columns)
            columns = {
                column: _texts(batch.column(column), kind)
                for column, kind in kinds.items()
            }
            for number in range(batch.num_rows):
                yield (
                    name,
                    kinds,
                    {column: texts[number] for column, texts in columns.items()},
                )


def _texts(column: pa.Array, kind: ValueType) -> list[str | None]:
    plain = column.cast(pa.string()) if pa.types.is_dictionary(column.type) else column
    texts: list[str | None] = written(plain, kind).to_pylist()
    return texts


def _is(
    wanted: WantedTable, row: WantedRow, texts: Texts, kinds: Mapping[str, ValueType]
) -> bool:
    return all(
        same(kinds[name], texts[name], cell)
        for name, cell in zip(wanted.columns, row.cells, strict=True)
    )
