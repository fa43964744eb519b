"""A piece → entries: rows that are written, rows of which keys are still to be resolved, rejects,
and what it tells.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import reduce

import pyarrow as pa
import pyarrow.compute as pc

from mukret.destinations.deliver import inputs_of
from mukret.engine.decided import DecidedRows
from mukret.engine.run import Output, Run
from mukret.engine.unresolved import (
    ABOVE,
    KEY,
    OUTCOME,
    told_tables,
    unresolved_rows,
    unresolved_schema,
)
from mukret.parts.together import Told
from mukret.rules.model import Rules, Table
from mukret.semantics.outcomes import RowOutcome
from mukret.semantics.tally import Reason
from mukret.spark.frame import Entry, EntryKind, packed_fact, packed_rows
from mukret.spark.gathering import GatheredRows
from mukret.spark.pieces import Piece
from mukret.spark.rejected import reject_lines, rejects_entry
from mukret.values import JsonValue


@dataclass(frozen=True)
class PieceTold:
    """What a piece tells: as a share does, why rows were rejected, and what was read of each input,
    by its number.
    """

    told: Told
    reasons: list[Reason]
    inputs: Mapping[int, Mapping[str, JsonValue]]


def keyed_above(rules: Rules, name: str) -> list[str]:
    """The tables with keys in which a table stands, the nearest first."""
    columns = []
    within = rules.tables[name].within
    while within is not None:
        if rules.tables[within].key:
            columns.append(within)
        within = rules.tables[within].within
    return columns


def unresolved_tables(rules: Rules) -> set[str]:
    """The tables of which rows may be left out for keys: those with one, and all that stands within
    these.
    """
    return {
        name
        for name, table in rules.tables.items()
        if table.key or keyed_above(rules, name)
    }


def ranks_of(rules: Rules) -> dict[str, int]:
    """The order in which rejects of one document stand."""
    return {table.name: rank for rank, table in enumerate(rules.parents_first())}


def spark_schema(schema: pa.Schema) -> pa.Schema:
    """The columns of a table as Spark takes them: enums are texts,
    times of day have nanoseconds.
    """
    return pa.schema([pa.field(field.name, _taken(field.type)) for field in schema])


def _taken(kind: pa.DataType) -> pa.DataType:
    if pa.types.is_dictionary(kind):
        return kind.value_type
    if pa.types.is_list(kind):
        return pa.list_(_taken(kind.value_type))
    return pa.time64("ns") if pa.types.is_time(kind) else kind


def keys_schema() -> pa.Schema:
    """The columns of entries with keys: the number of a row, its key, and the row with a key in
    which it stands.
    """
    return pa.schema(
        [
            ("row", pa.int32()),
            ("key", pa.string()),
            # Rows go with the row above them, which may be in another block.
            ("above_name", pa.string()),
            ("above_block", pa.int32()),
            ("above_row", pa.int32()),
        ]
    )


def one_text(columns: Sequence[pa.Array]) -> pa.Array:
    """String arrays as one array of texts, which are equal if all of them are."""
    if len(columns) == 1:
        return columns[0]
    apart = [
        pc.replace_substring(pc.replace_substring(column, "\\", "\\\\"), "|", "\\!")
        for column in columns
    ]
    return pc.binary_join_element_wise(*apart, "|")


class Evaluating:
    def __init__(self, number: int, run: Run) -> None:
        self.number = number
        self.run = run
        self.rules = run.rules
        self.told = told_tables(run.rules)
        self.with_open_keys = {
            name: unresolved_schema(run.rules.tables[name], run.schemas.get(name))
            for name in unresolved_tables(run.rules)
        }
        self.plain = {
            name: spark_schema(schema)
            for name, schema in run.schemas.items()
            if name not in self.with_open_keys
        }
        self.ranks = ranks_of(run.rules)
        self.gathered = GatheredRows(number)
        self.block = 0
        # The number of the block with what stands around the arrays of a document in parts, and its
        # rows.
        self.around: tuple[int, Mapping[str, JsonValue]] = (0, {})
        run.observer = self.see

    def see(self, rows: DecidedRows) -> None:
        """The rows of which the output comes next."""
        self.rows = rows

    def entries(self, piece: Piece) -> Iterator[list[Entry]]:
        """Raises InputError and StoppedError."""
        for output in self.run.batches():
            entries = list(self.of_block(output))
            if entries:
                yield entries
        entries = [*self.gathered.rest(), self.end(piece)]
        yield entries

    def of_block(self, output: Output) -> Iterator[Entry]:
        self.block += 1
        batch = self.rows.batch
        sources = batch.sources or [bad.source for bad in batch.bad]
        file = sources[0].name if sources else ""
        whole = self.rows.found.array is None
        tables = dict(unresolved_rows(self.rows, self.with_open_keys, self.told))
        # Parts of a document that follow stand within what was around its arrays.
        if whole:
            self.around = (self.block, tables)
        for name, rows in tables.items():
            yield Entry(
                self.number,
                self.block,
                EntryKind.UNRESOLVED,
                name,
                packed_rows([rows]),
                file,
                whole,
            )
            if self.rules.tables[name].key:
                keys = self.keys(self.rules.tables[name], tables)
                if keys.num_rows:
                    yield Entry(
                        self.number,
                        self.block,
                        EntryKind.KEYS,
                        name,
                        packed_rows([keys]),
                    )
        for name, schema in self.plain.items():
            if name in output.tables:
                yield from self.gathered.add(name, output.tables[name].cast(schema))
        if output.rejects:
            yield rejects_entry(
                self.number, self.block, reject_lines(output.rejects, self.ranks)
            )

    def keys(
        self, table: Table, tables: Mapping[str, pa.RecordBatch]
    ) -> pa.RecordBatch:
        """The keys of the rows that are written so far, and the row of the nearest table with a key
        above each.
        """
        rows = tables[table.name]
        texts = [rows.column(f"{KEY}{name}") for name in table.key]
        filled = reduce(
            pc.and_, map(pc.is_valid, texts)
        )  # a row that stands for none has no key
        numbers = pa.array(range(rows.num_rows), pa.int32())
        name, block, owners = self.above(table, rows, tables)
        arrays = [
            numbers,
            one_text(texts),
            *(pa.repeat(pa.scalar(*fact), rows.num_rows) for fact in (name, block)),
            owners,
        ]
        keys = pa.RecordBatch.from_arrays(arrays, schema=keys_schema())
        return keys.filter(
            pc.and_(pc.equal(rows.column(OUTCOME), int(RowOutcome.WRITTEN)), filled)
        )

    def above(
        self, table: Table, rows: pa.RecordBatch, tables: Mapping[str, pa.RecordBatch]
    ) -> tuple[pa.Array, pa.Array, pa.Array]:
        """The nearest table with a key above, the block in which its rows are, and the number of
        each.
        """
        owners, within = rows.column(ABOVE), table.within
        nearest = next(iter(keyed_above(self.rules, table.name)), None)
        if nearest is None:
            return (
                (None, pa.string()),
                (None, pa.int32()),
                pa.nulls(rows.num_rows, pa.int32()),
            )
        while within != nearest:
            assert within is not None
            # The rows above may stand in the block of the surroundings, which came before this one.
            around = tables.get(within, self.around[1].get(within))
            owners, within = (
                around.column(ABOVE).take(owners),
                self.rules.tables[within].within,
            )
        block = self.block if nearest in tables else self.around[0]
        return (nearest, pa.string()), (block, pa.int32()), owners.cast(pa.int32())

    def end(self, piece: Piece) -> Entry:
        """What is known when all was read."""
        inputs = {}
        for file, source, told in zip(
            piece, self.run.sources, inputs_of(self.run), strict=True
        ):
            # Documents are numbered through the file: those before this stretch are not of it.
            before = 0 if file.stretch is None else file.stretch.documents
            inputs[file.number] = {**told, "documents": source.documents - before}
        everything = PieceTold(
            Told.by(self.run), list(self.run.tally.reasons.values()), inputs
        )
        return Entry(self.number, 0, EntryKind.TOLD, "", packed_fact(everything))
