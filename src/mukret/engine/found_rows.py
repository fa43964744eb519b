"""The rows of all tables in one batch, found before anything is read of them."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from functools import partial

from mukret.codes import Code
from mukret.documents import BadDocument, Batch
from mukret.engine.accepting import Accepted, accepted
from mukret.engine.table_rows import TableRows
from mukret.plan.compiled import Plan
from mukret.plan.long_documents import CutArray
from mukret.rules.model import RESPONSE
from mukret.rules.rows import RowPlace
from mukret.semantics.embedded import BadText, RowPlaces, excuses


@dataclass(frozen=True)
class FoundRows:
    """`tables` by name, that of the response (whose rows are the documents) among them, each after
    its parent.

    `given` is the batch as it came, `documents` what is read of it. `array`: of a part of a
    document the one of which it has some elements; only rows in that are new. `has_text_faults`:
    embedded texts could not be read, and rows were rejected for it.
    """

    plan: Plan
    given: Batch
    documents: Accepted
    tables: Mapping[str, TableRows]
    array: CutArray | None
    has_text_faults: bool

    @property
    def batch(self) -> Batch:
        """The documents that are read."""
        return self.documents.batch

    @property
    def new(self) -> list[str]:
        """The tables with rows that are new in this batch, parents first, without the response."""
        names = [plan.table.name for plan in self.plan.tables]
        return [
            name for name in names if self.array is None or name in self.array.tables
        ]


def find_rows(plan: Plan, batch: Batch, *, refused: bool = False) -> FoundRows:
    """`refused`: it is a part of a document that was refused when what stands around its arrays was
    read.
    """
    array = None if batch.part.array is None else plan.long.arrays[batch.part.array]
    documents = accepted(plan, batch, refused=refused)
    # A text that is no JSON is held against the row around it, which is only known once rows are
    # found; where there is none the whole document is bad, and rows are found again without it.
    tables = _tables(plan, documents, array)
    has_text_faults = bool(documents.bad_texts)
    if has_text_faults:
        in_no_row = _held_against_rows(tables, documents.bad_texts)
        if in_no_row:
            bad = {
                number: _unreadable(documents.batch, number, text)
                for number, text in in_no_row.items()
            }
            documents = documents.without(bad)
            tables = _tables(plan, documents, array)
            _held_against_rows(tables, documents.bad_texts)
    return FoundRows(plan, batch, documents, tables, array, has_text_faults)


def _tables(
    plan: Plan, documents: Accepted, array: CutArray | None
) -> dict[str, TableRows]:
    batch, kinds = documents.batch, documents.kinds or ()
    excused = {number: excuses(texts) for number, texts in documents.bad_texts.items()}
    tables = {RESPONSE: TableRows(plan.response, batch, None, excuses=excused)}
    for table_plan in plan.tables:
        table = table_plan.table
        # Tables within another are of its kind: their rows are below rows that were asked already.
        kind = table.kind if table.within is None else None
        tables[table.name] = TableRows(
            table_plan,
            batch,
            tables[table.within or RESPONSE],
            belongs=None if kind is None else partial(_is_kind, kind, kinds),
            excuses=excused,
            cut_at=len(array.names)
            if array is not None and table.name in array.rows
            else None,
        )
    return tables


def _is_kind(kind: str, kinds: Sequence[frozenset[str]], number: int) -> bool:
    """Whether a document of the batch is of this kind."""
    return kind in kinds[number]


def _held_against_rows(
    tables: Mapping[str, TableRows], bad_texts: Mapping[int, Sequence[BadText]]
) -> dict[int, BadText]:
    """Rejects the rows in which texts stand that are no JSON.

    Gives the texts that stand in no row, by document.
    """
    rows = _rows_of_documents(tables, bad_texts)
    in_no_row: dict[int, BadText] = {}
    for document, texts in bad_texts.items():
        # A text is held against the innermost row around it, of whatever table that is.
        places = [_place_of(table, row) for table, row in rows[document]]
        index = RowPlaces(places)
        for text in texts:
            around = index.around(text.location)
            if not around:
                in_no_row.setdefault(document, text)
            for number in around:
                table, row = rows[document][number]
                place = places[number]
                itself = place is not None and place.location == text.location
                _hold_against(table, row, text, itself=itself)
    return in_no_row


def _rows_of_documents(
    tables: Mapping[str, TableRows], documents: Collection[int]
) -> dict[int, list[tuple[TableRows, int]]]:
    """The rows of all tables in these documents, but for that of the response itself."""
    rows: dict[int, list[tuple[TableRows, int]]] = {
        document: [] for document in documents
    }
    for name, table in tables.items():
        # Its row is the document, which is told in other words.
        if name == RESPONSE:
            continue
        for row, document in enumerate(table.documents):
            if document in rows:
                rows[document].append((table, row))
    return rows


def _hold_against(table: TableRows, row: int, text: BadText, *, itself: bool) -> None:
    """Notes a bad text as a fault of a row.

    If the text is the row itself, its fault of being no object is dropped.
    """
    before = table.faults.get(row, [])
    if itself:
        before = [fault for fault in before if fault.bad.code != Code.ROW_SHAPE]
        table.unreadable.add(row)
    table.faults[row] = [*before, text.fault]


def _unreadable(batch: Batch, number: int, text: BadText) -> BadDocument:
    finding = text.finding.inside(f"the text at {text.path}")
    return BadDocument(batch.sources[number], batch.numbers[number], finding)


def _place_of(table: TableRows, row: int) -> RowPlace | None:
    """Where a row stands; a placeholder stands nowhere."""
    return None if row in table.placeholders else table.locate(row)[0]
