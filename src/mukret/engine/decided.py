"""All tables of a batch when everything is decided: rows, columns, outcomes."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import pyarrow.compute as pc

from mukret.columns.arrow import row_mask
from mukret.documents import Batch
from mukret.engine.deciding import Outcomes, decide, written_all
from mukret.engine.evaluating import EvaluatedRows
from mukret.engine.found_rows import FoundRows
from mukret.engine.table_rows import TableRows
from mukret.engine.typed_columns import TypedColumns
from mukret.rules.model import RESPONSE, Table
from mukret.semantics.outcomes import RowOutcome, SeenKeys
from mukret.semantics.rejects import Reject, refused, reject
from mukret.semantics.tally import TableTally

if TYPE_CHECKING:
    import pyarrow as pa

# What becomes of the rows of each table, by name.
RowOutcomes = Mapping[str, bytes]


@dataclass(frozen=True)
class DecidedTable:
    """A table in a batch."""

    columns: TypedColumns
    outcomes: Outcomes

    @property
    def rows(self) -> TableRows:
        return self.columns.rows

    @property
    def table(self) -> Table:
        return self.rows.table

    @property
    def name(self) -> str:
        return self.table.name

    @property
    def written_rows(self) -> Sequence[int]:
        """The numbers of the rows that are written."""
        if self.outcomes.all_written:
            return range(self.rows.count)
        return [
            row for row, outcome in enumerate(self.outcomes.row_outcomes) if not outcome
        ]

    def written(self) -> pa.RecordBatch:
        """The rows that are written, as a record batch."""
        rows = self.columns.record_batch()
        # So it is in most batches: nothing is copied.
        if self.outcomes.all_written:
            return rows
        others = (
            row for row, outcome in enumerate(self.outcomes.row_outcomes) if outcome
        )
        return rows.filter(pc.invert(row_mask(others, self.rows.count)))

    @property
    def tally(self) -> TableTally:
        """Its rows, counted by what becomes of them."""
        # Rows of arrays that are uneven were never made, and are rejected all the same.
        refused_rows = sum(refusal.count for _, refusal in self.rows.refusals)
        count = self.outcomes.count
        return TableTally(
            rows_seen=self.rows.count + refused_rows,
            rows_written=count(RowOutcome.WRITTEN),
            rows_rejected=count(RowOutcome.REJECTED) + refused_rows,
            rows_filtered=count(RowOutcome.FILTERED),
            rows_deduplicated=count(RowOutcome.DEDUPLICATED),
            values_nulled=self.columns.nulled,
            rows_filtered_unknown=len(self.outcomes.unknown),
        )

    def rejects(self) -> Iterator[tuple[int, Reject]]:
        """The rejected rows, each with the number of its document in the batch; rows that are
        refused as a whole stand where their rows would.
        """
        rows, above = self.rows, self.rows.parent
        assert above is not None
        refusals = dict(rows.refusals)
        rejected = [(rows.owners[row], row) for row in self.outcomes.faults]
        rejected += [(owner, -1) for owner in refusals]
        # By the row above, so that rejects come in the order of the documents; a refusal of all
        # rows of a parent (-1) stands before its single rows.
        for owner, row in sorted(rejected):
            document = above.document(owner)
            if row < 0:
                file, number = (
                    rows.batch.sources[document].name,
                    rows.batch.numbers[document],
                )
                yield (
                    document,
                    refused(
                        file, number, self.name, above.locate(owner)[0], refusals[owner]
                    ),
                )
            else:
                yield document, self.reject_at(row)

    def reject_at(self, row: int) -> Reject:
        """The record of a row that is rejected."""
        rows = self.rows
        document = rows.document(row)
        file, number = rows.batch.sources[document].name, rows.batch.numbers[document]
        # Only now: most rows are never shown, and locating one takes a look at its document.
        place, node = rows.locate(row)
        return reject(
            file,
            number,
            self.name,
            place,
            node,
            list(self.outcomes.faults[row]),
            rows.excuses_at(row),
        )


@dataclass(frozen=True)
class DecidedRows:
    """The tables of a batch by name, that of the response among them."""

    found: FoundRows
    tables: Mapping[str, DecidedTable]

    @property
    def batch(self) -> Batch:
        """The documents that were read."""
        return self.found.batch

    @property
    def new(self) -> list[DecidedTable]:
        """The tables with rows that are new in this batch, parents first, without the response."""
        return [self.tables[name] for name in self.found.new]

    @property
    def row_outcomes(self) -> RowOutcomes:
        """The outcomes of the rows around the arrays of a document, for its parts; none where it
        was refused.
        """
        return (
            {name: table.outcomes.row_outcomes for name, table in self.tables.items()}
            if self.batch.documents
            else {}
        )


def decided(
    evaluated: EvaluatedRows, seen: Mapping[str, SeenKeys], around: RowOutcomes
) -> DecidedRows:
    """Decides all rows.

    `around` has the outcomes of rows that the first part of a document had; keys are noted in
    `seen`.
    """
    new = set(evaluated.found.new)
    tables: dict[str, DecidedTable] = {}
    for name, columns in evaluated.tables.items():
        if name == RESPONSE:
            outcomes = written_all(columns)
        elif name in new:
            outcomes = decide(
                columns,
                tables[columns.rows.table.within or RESPONSE].outcomes,
                seen[name],
            )
        else:  # nothing where the document was refused
            outcomes = Outcomes(
                around.get(name, bytes(columns.rows.count)), columns.faults
            )
        tables[name] = DecidedTable(columns, outcomes)
    return DecidedRows(evaluated.found, tables)
