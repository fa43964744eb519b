"""A draft laid beside the rules that a person wrote: which tables, fields and types of these it
has, and what it does to the input that it came from.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from random import Random

from mukret.documents import find_sources
from mukret.drafting import draft_rules, rules_text
from mukret.engine.decided import DecidedTable
from mukret.engine.run import Run
from mukret.paths.locate import path_text
from mukret.rules import parse_rules
from mukret.rules.model import Field, Rules, Table
from mukret.rules.sources import At, Fact
from mukret.types import DecimalType, Enum, ListOf, ValueType
from tests.drafts.cases import Case, Document

ALIKE = 0.9
"""So large a share of the rows of two tables must stand at the same places for the tables to be
one.
"""
RowPlace = tuple[str, int, tuple[str | int, ...]]


@dataclass
class Score:
    """Counts of one case, or of several. `wrong` says in words what a practitioner would change."""

    tables: list[int] = field(default_factory=lambda: [0, 0])
    fields: list[int] = field(default_factory=lambda: [0, 0])
    types: list[int] = field(default_factory=lambda: [0, 0])
    drafted_tables: int = 0
    nulled: int = 0
    rows_of_nulls: int = 0
    rejected: int = 0
    other_half: list[int] = field(default_factory=lambda: [0, 0])
    """Rows of the other half that are rejected, and all of them."""
    wrong: list[str] = field(default_factory=list)

    def add(self, other: Score) -> None:
        for name, value in vars(other).items():
            own = getattr(self, name)
            if name == "wrong" or isinstance(value, int):
                setattr(self, name, own + value)
            else:
                setattr(
                    self, name, [one + two for one, two in zip(own, value, strict=True)]
                )


def share(counts: Sequence[int]) -> float:
    return counts[0] / counts[1] if counts[1] else 1.0


def score(case: Case, folder: Path) -> Score:
    """Drafts rules for a case, in an empty folder, and compares them with those by hand."""
    documents = case.documents(Random(case.name))
    files = write(folder, case, documents)
    rules = drafted(files)
    hand = parse_rules(f"mukret: 1\n{case.rules.strip()}\n", "by hand")
    found = Score()
    compare(rows_of(hand, files), rows_of(rules, files), hand, rules, found)
    damage(rules, files, found)
    if len(documents) > 1:
        middle = len(documents) // 2
        one = write(folder / "one", case, documents[:middle])
        two = write(folder / "two", case, documents[middle:])
        run = ran(drafted(one), two)
        found.other_half = [
            sum(tally.rows_rejected for tally in run.tally.tables.values())
            + run.tally.bad_documents,
            sum(tally.rows_seen for tally in run.tally.tables.values())
            + run.tally.bad_documents,
        ]
        if share(found.other_half) > 0.01:
            reasons = {
                (reason.table, reason.field, reason.code)
                for reason in run.tally.reasons.values()
            }
            found.wrong.append(
                f"the other half is rejected: {found.other_half}, {sorted(map(str, reasons))[:4]}"
            )
    return found


def write(folder: Path, case: Case, documents: Sequence[Document]) -> list[str]:
    folder.mkdir(exist_ok=True)
    if case.lines:
        (folder / "log.jsonl").write_text(
            "".join(f"{json.dumps(document)}\n" for document in documents)
        )
        return [str(folder / "log.jsonl")]
    names = [
        str(folder / f"{case.name}-{number}.json") for number in range(len(documents))
    ]
    for name, document in zip(names, documents, strict=True):
        Path(name).write_text(json.dumps(document))
    return names


def drafted(files: Sequence[str]) -> Rules:
    return parse_rules(
        rules_text(draft_rules(find_sources(files), "drafted")), "drafted"
    )


def ran(rules: Rules, files: Sequence[str]) -> Run:
    run = Run(rules, find_sources(files))
    for _ in run.batches():
        pass
    return run


# ---- what is where


def rows_of(rules: Rules, files: Sequence[str]) -> dict[str, set[RowPlace]]:
    """Where the rows stand that each table can read."""
    found: dict[str, set[RowPlace]] = {name: set() for name in rules.tables}
    for batch in Run(rules, find_sources(files)).decided_rows():
        for table in batch.new:
            unread = table.rows.unreadable | table.rows.placeholders
            found[table.name] |= {
                _place(table, row)
                for row in range(table.rows.count)
                if row not in unread
            }
    return found


def _place(table: DecidedTable, row: int) -> RowPlace:
    document = table.rows.document(row)
    source, number = (
        table.rows.batch.sources[document],
        table.rows.batch.numbers[document],
    )
    return source.name, number, table.rows.locate(row)[0].location


def compare(
    hand: Mapping[str, set[RowPlace]],
    draft: Mapping[str, set[RowPlace]],
    by_hand: Rules,
    drafted: Rules,
    found: Score,
) -> None:
    found.drafted_tables = len(drafted.tables)
    for name, table in by_hand.tables.items():
        found.tables[1] += 1
        found.fields[1] += len(table.fields)
        same = max(
            draft, key=lambda other: _alike(hand[name], draft[other]), default=None
        )
        if same is None or _alike(hand[name], draft[same]) < ALIKE:
            found.wrong.append(
                f"no table {name}; there are {', '.join(drafted.tables)}"
            )
            continue
        found.tables[0] += 1
        _compare_fields(table, drafted.tables[same], found)


def _alike(one: set[RowPlace], two: set[RowPlace]) -> float:
    return len(one & two) / len(one | two) if one | two else 1.0


def _compare_fields(hand: Table, draft: Table, found: Score) -> None:
    there = {
        _source(own): own
        for own in [*(item.field for item in draft.inherit), *draft.fields]
    }
    for own in hand.fields:
        other = there.get(_source(own))
        if other is None:
            found.wrong.append(f"no field {hand.name}.{own.name}")
            continue
        found.fields[0] += 1
        found.types[1] += 1
        if _family(own.type) == _family(other.type):
            found.types[0] += 1
        else:
            found.wrong.append(
                f"{hand.name}.{own.name} is {own.type.name}, drafted {other.type.name}"
            )


def _source(own: Field) -> str:
    match own.source:
        case At(paths=paths):
            return path_text(paths[0].segments)
        case Fact(name=name):
            return f"fact {name}"
    return type(own.source).__name__


def _family(kind: ValueType) -> str:
    """The type, but for the digits of a decimal and the words of an enum."""
    if isinstance(kind, DecimalType):
        return "decimal"
    if isinstance(kind, ListOf):
        return f"list of {_family(kind.item)}"
    return "enum" if isinstance(kind, Enum) else kind.name


# ---- what it does to its own input


def damage(rules: Rules, files: Sequence[str], found: Score) -> None:
    run = Run(rules, find_sources(files))
    for output in run.batches():
        for name, batch in output.tables.items():
            own = [
                item.name
                for item in rules.tables[name].fields
                if isinstance(item.source, At) and item.keep
            ]
            empty = [
                row
                for row in batch.select(own).to_pylist()
                if all(value is None for value in row.values())
            ]
            found.rows_of_nulls += len(empty) if own else 0
    tally = run.tally
    found.nulled = (
        sum(table.values_nulled for table in tally.tables.values())
        + tally.response_values_nulled
    )
    found.rejected = sum(table.rows_rejected for table in tally.tables.values())
    if found.nulled or found.rows_of_nulls or found.rejected:
        found.wrong.append(
            f"nulled {found.nulled}, rows of nulls {found.rows_of_nulls}, rejected {found.rejected}"
        )
