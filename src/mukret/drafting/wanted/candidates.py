"""Tables that could be the wanted one: all that a draft would have, each row with every value that
it could take.

A row has its own fields, those of the rows that it stands in, and those of the response. A field
comes as the draft reads it, and as the text that stands there.
"""

from __future__ import annotations

import copy
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import pyarrow as pa

from mukret.columns.types import written
from mukret.documents import Source, decode
from mukret.drafting.model import Draft, DraftField, DraftTable
from mukret.drafting.text import rules_text
from mukret.drafting.wanted.unfolding import with_members_as_rows
from mukret.engine.interface import RowsAbove
from mukret.engine.run import Links, Run
from mukret.rules import parse_rules
from mukret.types import Text, ValueType
from mukret.values import JsonValue, json_text

# So much of the input is searched; what is proposed is tried on all of it.
MOST_BYTES = 4 << 20


@dataclass(frozen=True)
class Candidate:
    """A value that rows could take: `field` with the reading that gives `texts`, as they would be
    written. `levels`: how far above the row it stands. `raw` is what stands in the response, where
    that is known.
    """

    field: DraftField
    owner: DraftTable | None
    levels: int
    kind: ValueType
    texts: Sequence[str | None]
    raw: Sequence[JsonValue]
    nodes: bool = False
    """Whether `raw` has the list of all nodes that its path finds."""

    @property
    def is_text(self) -> bool:
        return isinstance(self.kind, Text)


@dataclass(frozen=True)
class CandidateTable:
    table: DraftTable
    rows: int
    values: Sequence[Candidate]


def candidate_tables(
    draft: Draft, sources: Sequence[Source]
) -> Iterator[CandidateTable]:
    """Every table of a draft with the values of its rows. Raises InputError."""
    bare = _bare(draft)
    with_members_as_rows(bare)
    typed = _Values(bare, sources)
    raw = _Values(_raw(bare), sources)
    for table in bare.tables:
        yield CandidateTable(
            table, typed.count(table.name), list(_values(bare, table, typed, raw))
        )


def _bare(draft: Draft) -> Draft:
    """Without what could leave out a row: keys, what is required, values that are bad.

    What stands in the response comes with the outermost tables.
    """
    bare = copy.deepcopy(draft)
    of_response = [field.name for field in bare.response]
    for table in bare.tables:
        table.key, table.comment = [], None
        # A row that would be rejected may be the one that is wanted.
        table.options["bad"] = "null"
        table.inherit = of_response if table.within is None else []
        for field in table.fields:
            field.required = False
    return bare


def _raw(bare: Draft) -> Draft:
    """The same with values as they stand there."""
    raw = copy.deepcopy(bare)
    fields = [field for table in raw.tables for field in table.fields] + raw.response
    for field in fields:
        at = field.source.get("at")
        if (
            isinstance(at, str)
            and field.source.get("take") == "all"
            and at.endswith("[*]")
        ):
            # The list itself: how many, the ends and the sum are tried on it.
            field.source, field.reading = (
                {"at": at.removesuffix("[*]")},
                {"type": "json"},
            )
        elif at is not None and "take" not in field.source:
            field.reading = {"type": "json"}
    return raw


class _Values:
    """The columns of all tables, and in which row of the one above each row stands."""

    def __init__(self, draft: Draft, sources: Sequence[Source]) -> None:
        for source in sources:
            source.rewind()
        run = Run(
            parse_rules(rules_text(draft), "draft.rules.yaml"),
            sources,
            # The first of it is enough to find a few rows, and is kept in memory.
            most_bytes=MOST_BYTES,
        )
        self.rules = run.rules
        above = RowsAbove(run)
        batches: dict[str, list[pa.RecordBatch]] = {name: [] for name in run.schemas}
        for output in run.batches(Links.WHOLE):
            above.see(output)
            for name, batch in output.tables.items():
                batches[name].append(batch)
        self.above: Mapping[str, Sequence[int]] = above.above
        self.tables = {
            name: pa.Table.from_batches(batches[name], schema)
            for name, schema in run.schemas.items()
        }

    def count(self, table: str) -> int:
        return int(self.tables[table].num_rows)

    def kind(self, table: str, name: str) -> ValueType:
        return dict(self.rules.tables[table].columns)[name]

    def texts(self, table: str, name: str, rows: Sequence[int]) -> list[str | None]:
        column = self.tables[table].column(name).combine_chunks()
        if pa.types.is_dictionary(column.type):
            column = column.cast(pa.string())
        texts: list[str | None] = written(column, self.kind(table, name)).to_pylist()
        return [texts[row] for row in rows]


def _values(
    draft: Draft, table: DraftTable, typed: _Values, raw: _Values
) -> Iterator[Candidate]:
    rows: Sequence[int] = range(typed.count(table.name))
    levels, current = 0, table
    while True:
        for field in current.fields:
            if "lookup" in field.source:
                continue
            yield from _readings(field, current, levels, typed, raw, current.name, rows)
        if current.within is None:
            break
        # Level by level upwards: each row with the one that it lies in.
        rows = [typed.above[current.name][row] for row in rows]
        levels, current = levels + 1, current.within
    for inner in draft.tables:
        if (
            inner.within is table
            and isinstance(inner.rows, str)
            # Only lists that are all elements of one array; others can't be taken by a path.
            and inner.options.keys() <= {"bad"}
        ):
            yield from _lists(table, inner, raw)
    for field in draft.response:
        yield from _readings(field, None, levels + 1, typed, raw, current.name, rows)


def _lists(table: DraftTable, inner: DraftTable, raw: _Values) -> Iterator[Candidate]:
    """What stands in the rows of a table within, as lists of each row."""
    count, above = raw.count(table.name), raw.above.get(inner.name, ())
    for own_field in inner.fields:
        at = own_field.source.get("at")
        if (
            not isinstance(at, str)
            or "take" in own_field.source
            or not _is_raw(raw.kind(inner.name, own_field.name))
        ):
            continue
        lists: list[list[JsonValue]] = [[] for _ in range(count)]
        texts = raw.texts(inner.name, own_field.name, range(raw.count(inner.name)))
        # Rows within know the row that they stand in.
        for row, text in zip(above, texts, strict=True):
            lists[row].append(_decoded(text))
        field = DraftField(own_field.name, {"at": f"{inner.rows}{at[1:]}"})
        yield Candidate(field, table, 0, Text(), [None] * count, lists, nodes=True)


def _readings(
    field: DraftField,
    owner: DraftTable | None,
    levels: int,
    typed: _Values,
    raw: _Values,
    table: str,
    rows: Sequence[int],
) -> Iterator[Candidate]:
    """A field as the draft reads it, and as a text."""
    kind = typed.kind(table, field.name)
    # What was typed is compared as text, as it would stand in a file.
    texts = typed.texts(table, field.name, rows)
    is_raw = _is_raw(raw.kind(table, field.name))
    stands: Sequence[JsonValue] = texts
    if is_raw:
        stands = list(map(_decoded, raw.texts(table, field.name, rows)))
    yield Candidate(field, owner, levels, kind, texts, stands)
    is_one_node = "at" in field.source and "take" not in field.source
    # A part of the text is cut out of what stands there, not of what was read from it.
    if is_raw and is_one_node and not isinstance(kind, Text):
        plain = DraftField(field.name, dict(field.source))
        as_text = [_scalar_text(value) for value in stands]
        yield Candidate(plain, owner, levels, Text(), as_text, stands)


def _decoded(text: str | None) -> JsonValue:
    return None if text is None else decode(text.encode())


def _is_raw(kind: ValueType) -> bool:
    return kind.name == "json"


def _scalar_text(value: JsonValue) -> str | None:
    if value is None or isinstance(value, dict | list):
        return None
    return value if isinstance(value, str) else json_text(value)
