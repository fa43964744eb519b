"""A draft tried on the input that it was made from, and eased until few rows are rejected,
or none.
"""

from __future__ import annotations

from collections.abc import Sequence

from mukret.codes import Code
from mukret.documents import Source
from mukret.drafting.model import Draft, DraftField, DraftTable
from mukret.drafting.readings import is_few
from mukret.drafting.text import rules_text
from mukret.engine.run import Run
from mukret.paths import Index, parse_path
from mukret.paths.locate import path_text
from mukret.rules import parse_rules
from mukret.semantics.tally import Reason
from mukret.text import counted, shortened
from mukret.values import shown_text

MOST_ROUNDS = 50
# Fewer of the elements of a list that have another shape than its records are rejected; more are
# left out.
STRAYS = 0.5


def tried_on(
    draft: Draft, sources: Sequence[Source], file: str, *, ignoring: bool = True
) -> Draft:
    """The draft, eased on these sources until only rows with plain mistakes are rejected, which is
    said beside the field. The sources are read several times. `ignoring`: what no rule reads is
    listed.
    """
    for _ in range(MOST_ROUNDS):
        run = _tried(draft, sources, file)
        reasons = [
            reason for reason in run.tally.reasons.values() if reason.table is not None
        ]
        eased = [_eased(draft, reason, run) for reason in reasons]
        # Each round may show what the one before hid: rows that were rejected have no values.
        if not any(eased):
            break
    for path, count in sorted(run.sample.unread.items()) if ignoring else ():
        draft.ignored.setdefault(
            path, f"{counted(count, 'time')} in the documents looked at"
        )
    draft.rejected, draft.bad_documents = (
        run.tally.rows_rejected,
        run.tally.bad_documents,
    )
    # JSON in a text that can't be read is the sender's mistake, and no rule mends it.
    draft.unread_texts = sum(
        reason.count
        for reason in run.tally.reasons.values()
        if reason.code == Code.NOT_JSON
    )
    return draft


def _tried(draft: Draft, sources: Sequence[Source], file: str) -> Run:
    for source in sources:
        source.rewind()
    run = Run(parse_rules(rules_text(draft), file), sources)
    for _ in run.batches():
        pass
    return run


def _eased(draft: Draft, reason: Reason, run: Run) -> bool:
    """Changes what led to rejects; false if there is nothing to change."""
    assert reason.table is not None
    table = draft.table(reason.table)
    if reason.code in (Code.DUPLICATE, Code.KEY_MISSING):
        # What comes twice, or lacks, is no key, whatever it is called.
        _without_key(draft, table)
        return True
    if reason.field is None:
        return _rows_eased(table, reason, run)
    field = table.field(reason.field) or _response_field(draft, reason.field)
    if field is None:
        return False
    if reason.code == Code.REQUIRED and field.required:
        field.required = False
        return True
    # A few bad values are mistakes in the data, and are to be seen as rejects.
    few = is_few(reason.count, run.tally.tables[table.name].rows_seen)
    if reason.code == Code.OTHER_KIND:
        return _way_eased(table, field, few=few, reason=reason)
    return _type_eased(draft, field, few=few, reason=reason)


def _type_eased(draft: Draft, field: DraftField, *, few: bool, reason: Reason) -> bool:
    """Where values are refused by the type of a field: a few are rejected, and said beside it;
    of more the type was wrong.
    """
    field.required = False
    if field.type == "text":
        # Text takes every scalar: what it refused are lists and objects.
        field.reading = {"type": "json"}
        return True
    if few and field.type not in (*draft.enums, "boolean", "json"):
        # Said once, with the first count: later rounds see the same rows again.
        if not field.odd:
            field.odd = reason.count
            rows = counted(reason.count, "row")
            field.remark(f"rejects {rows}, for values such as {_shown(reason)}")
        return False
    field.reading, field.odd = {}, 0
    field.comment = f"of several kinds: {_shown(reason)} among others"
    return True


def _response_field(draft: Draft, name: str) -> DraftField | None:
    return next((field for field in draft.response if field.name == name), None)


def _way_eased(
    table: DraftTable, field: DraftField, *, few: bool, reason: Reason
) -> bool:
    """Where the way to a value leads through something that is not always of one kind: few rows are
    rejected; rows of another kind are left out; else the field has all that stands at the first
    step, once.
    """
    first = parse_path(str(field.source.get("at"))).segments[:1]
    # Rows that are arrays: one of another kind is no row of this table.
    if first and isinstance(first[0].only, Index) and "when" not in table.options:
        return _rows_left_out(table, reason)
    field.required = False
    if field.odd or few:
        # Said once: later rounds see the same rows again.
        if not field.odd:
            field.odd = reason.count
            rows = counted(reason.count, "row")
            field.remark(f"rejects {rows}, for {_shown(reason)} on the way")
        return False
    # The first step is always there; what is below it differs from row to row.
    whole = path_text(first)
    if field.source.get("at") == whole:
        return False
    known = any(other.source.get("at") == whole for other in table.fields)
    # The whole is a field already, and has this value in it.
    if known and field.name not in table.key:
        table.fields.remove(field)
        return True
    field.source, field.reading, field.odd = {"at": whole}, {"type": "json"}, 0
    field.remark("of several kinds")
    return True


def _shown(reason: Reason) -> str:
    return shortened(shown_text(reason.example.value), 40)


def _member(field: DraftField) -> str | None:
    """The member of a row in which a field looks, as a condition names it."""
    at = field.source.get("at")
    segments = parse_path(at).segments[:1] if isinstance(at, str) else ()
    return path_text(segments).replace("$", "@", 1) if segments else None


def _without_key(draft: Draft, table: DraftTable) -> None:
    """Removes the key of a table, and the keys that contain it."""
    key, table.key = table.key, []
    table.comment = f"{', '.join(key)} comes twice: no key"
    for other in draft.tables:
        if other.within is table and other.key[: len(key)] == key:
            _without_key(draft, other)


def _rows_eased(table: DraftTable, reason: Reason, run: Run) -> bool:
    if reason.code == Code.UNEVEN and isinstance(table.rows, dict):
        # Lists that are not of one length still say which values belong together.
        table.options["uneven"] = "pad"
        return True
    if reason.code == Code.HEADER and "header" in table.options:
        # Rows of other lengths have no columns: all cells together are what is certain.
        del table.options["header"]
        cells: DraftField = DraftField(
            "cells", {"at": "$[*]", "take": "all"}, {"type": "list(text)"}
        )
        table.fields, table.key = [cells], []
        table.comment = (
            "the first row seems to name the columns, but not all rows have as many"
        )
        return True
    if reason.code == Code.ROW_SHAPE:
        return _shape_eased(table, reason, run)
    return False


def _shape_eased(table: DraftTable, reason: Reason, run: Run) -> bool:
    """Where some elements of a list have another shape than its rows: few are rejected, which is
    said, more are left out.
    """
    few = reason.count < STRAYS * run.tally.tables[table.name].rows_seen
    # An empty text in the place of a row says that there is none, however few they are.
    few = few and reason.example.value != ""
    if not few and "when" not in table.options:
        return _rows_left_out(table, reason)
    said = f"rejects {counted(reason.count, 'row')} of another shape"
    before = table.comment
    if not before:
        table.comment = said
    elif said not in before:
        table.comment = f"{before}; {said}"
    return False


def _rows_left_out(table: DraftTable, reason: Reason) -> bool:
    members = dict.fromkeys(_member(field) for field in table.fields)
    table.options["when"] = " || ".join(member for member in members if member) or "@.*"
    table.comment = (
        f"{counted(reason.count, 'row')} with none of these members are left out"
    )
    return True
