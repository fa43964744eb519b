"""Proposals for rules that reject rows: what could be made wider, as a comment above the field, to
be decided.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from mukret.codes import Code
from mukret.drafting.model import DraftField
from mukret.drafting.text import field_value
from mukret.rules.model import Field, Rules
from mukret.semantics.rejects import PARENT_REJECTED
from mukret.semantics.tally import Reason
from mukret.text import counted
from mukret.types import Enum
from mukret.values import shown_text

# How the comments begin, so that they are found, and are made anew.
MARK = "# draft: "


@dataclass(frozen=True)
class Proposal:
    """What is said of a field: `rows` of its table are rejected for it."""

    table: str
    field: str
    rows: int
    words: str


def proposals(
    rules: Rules,
    reasons: Sequence[Reason],
    seen: Mapping[str, int],
    drafted: Mapping[tuple[str, str], DraftField],
) -> list[Proposal]:
    """For each field for which rows are rejected.

    `seen`: how many rows each table has; `drafted`: what a draft makes of the same values, by table
    and field of the rules.
    """
    by_field: dict[tuple[str, str], Proposal] = {}
    for reason in reasons:
        field = _field(rules, reason)
        if (
            reason.table is None
            or field is None
            or reason.code == PARENT_REJECTED
            or (reason.table, field.name) in by_field
        ):
            continue
        words = _words(
            field, reason, seen[reason.table], drafted.get((reason.table, field.name))
        )
        by_field[reason.table, field.name] = Proposal(
            reason.table, field.name, reason.count, words
        )
    # In the order of the file, whatever was met first.
    in_order = [(table, field.name) for table, field in rules.all_fields()]
    return [by_field[key] for key in in_order if key in by_field]


def _field(rules: Rules, reason: Reason) -> Field | None:
    if reason.table is None:
        return None
    return next(
        (
            field
            for field in rules.tables[reason.table].fields
            if field.name == reason.field
        ),
        None,
    )


def _words(field: Field, reason: Reason, rows: int, drafted: DraftField | None) -> str:
    if reason.code == Code.REQUIRED:
        return (
            f"not there in {reason.count:,} of {counted(rows, 'row')}, which are rejected: is "
            "it required?"
        )
    example = (
        f"{counted(reason.count, 'value')} such as {shown_text(reason.example.value)}"
    )
    if isinstance(field.type, Enum):
        return f"{example}: no word of {field.type.name}; add it there, or accept it for another"
    said = f"{example}: {reason.code}, and the rows are rejected"
    if (
        drafted is None
        or drafted.type == field.type.name
        or drafted.odd >= reason.count
    ):
        return said
    # Written as it would stand in the file, to be pasted.
    wider = DraftField(drafted.name, drafted.source, drafted.reading)
    return f"{said}; a draft of these responses reads it as {field_value(wider)}"


def with_proposals(text: str, rules: Rules, made: Sequence[Proposal]) -> str:
    """The text of these rules with each proposal above its field; one that stands there is made
    anew.
    """
    lines = text.split("\n")
    places = {
        (name, own_field.name): own_field.line
        for name, table in rules.tables.items()
        for own_field in table.fields
        if own_field.file == rules.file
    }
    known = [
        (places[each.table, each.field], each)
        for each in made
        if (each.table, each.field) in places
    ]
    # From the last line to the first: what is put in moves none that is still to come.
    for line, proposal in sorted(known, key=lambda item: -item[0]):
        field = lines[line - 1]
        comment = field[: len(field) - len(field.lstrip())] + MARK + proposal.words
        # A proposal of an earlier time gives way to this one.
        before = lines[line - 2].lstrip() if line > 1 else ""
        lines[line - 2 + (not before.startswith(MARK)) : line - 1] = [comment]
    return "\n".join(lines)
