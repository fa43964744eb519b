"""Warnings of a run: rules that found nothing, conditions that were unknown, members that came
twice.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from mukret.codes import Code
from mukret.engine.accepting import KindsFound
from mukret.engine.coverage import Unmatched
from mukret.engine.misshapen import Misshapen
from mukret.engine.sampling import Sample
from mukret.errors import Notice
from mukret.rules.model import RESPONSE, Rules
from mukret.semantics.tally import Tally
from mukret.text import counted, shortened


def notices(
    rules: Rules,
    unmatched: Sequence[Unmatched],
    misshapen: Sequence[Misshapen],
    tally: Tally,
    sample: Sample,
    kinds: KindsFound,
) -> list[Notice]:
    """All warnings of a run, those about the rules in the order of the file."""
    return [
        *map(misshapen_notice, misshapen),
        *unmatched_notices(rules, unmatched),
        *unknown(rules, tally),
        *_of_no_kind(rules, kinds),
        *_twice(sample),
    ]


def misshapen_notice(rows: Misshapen) -> Notice:
    """What came instead of records, and the path to write."""
    came = (
        "lists of records, not records"
        if rows.lists
        else "the members of one record, not records in a list"
    )
    message = f"rows of {rows.table}: {rows.path} finds {came}"
    # With `spread` both shapes are read: an object for a row, a list for its elements.
    hint = f'write rows: "{rows.write}"; if some come as a list and some alone, with spread: true'
    if rows.lists:
        hint = (
            f'write rows: "{rows.write}"; if some come alone and some in a list, rows: '
            f'"{rows.path}" with spread: true'
        )
    return Notice(
        Code.LIST_OR_RECORD,
        message,
        f"{rows.file}:{rows.line}:{rows.column}",
        hint,
        rows.table,
    )


def unmatched_notices(rules: Rules, unmatched: Sequence[Unmatched]) -> list[Notice]:
    """In the order of the file."""
    in_order = sorted(
        unmatched,
        key=lambda rule: (rule.file != rules.file, rule.file, rule.line, rule.column),
    )
    return [_unmatched(rule) for rule in in_order]


def _unmatched(rule: Unmatched) -> Notice:
    name = f"{rule.table}.{rule.field}" if rule.field else f"rows of {rule.table}"
    if rule.table == RESPONSE and rule.field is None:
        name = "embedded"
    finds = (
        "is on record for no document"
        # Facts stand in no document: they are told by who asked for it.
        if rule.fact
        else "finds nothing in all of the input"
    )
    message = f"{name}: {rule.path} {finds}"
    return Notice(
        Code.UNMATCHED,
        message,
        f"{rule.file}:{rule.line}:{rule.column}",
        rule.hint,
        rule.table,
    )


def _of_no_kind(rules: Rules, kinds: KindsFound) -> Iterator[Notice]:
    if kinds.first is not None:
        # One is enough to look into.
        file, number = kinds.first
        message = (
            f"{counted(kinds.of_none, 'document')} of no kind that the rules know: no table "
            "reads them"
        )
        hint = f"kinds: {', '.join(rules.kinds)}"
        yield Notice(Code.NO_KIND, message, f"{file}, document {number}", hint)


def unknown(rules: Rules, tally: Tally) -> Iterator[Notice]:
    """Tables of which rows were filtered since `where` could not be told."""
    for name, counts in tally.tables.items():
        # In SQL such rows are left out as well, and without a word.
        if counts.rows_filtered_unknown:
            table = rules.tables[name]
            of_all = (
                f"{counts.rows_filtered_unknown:,} of the "
                f"{counted(counts.rows_filtered, 'filtered row')}"
            )
            yield Notice(
                Code.FILTERED_UNKNOWN,
                f"{name}: where is unknown, not false, for {of_all}",
                f"{table.file}:{table.line}:{table.column}",
                "a null stands in the condition: IS NULL or COALESCE says what should become of it",
                name,
            )


def _twice(sample: Sample) -> Iterator[Notice]:
    if sample.twice:
        # JSON does not forbid it (RFC 8259, section 4); every reader takes the last.
        first = sample.twice[0]
        message = (
            f"{counted(len(sample.twice), 'member')} came twice in one object; the last one "
            "counts"
        )
        place = (
            f"{shortened(first.path, 200)} in {first.file}, document {first.document}"
        )
        yield Notice(Code.MEMBER_TWICE, message, place, None)
