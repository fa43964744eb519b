"""How `check` shows what responses have that their rules do not expect."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import click

from mukret.cli.views.counts import bad_document_lines
from mukret.cli.views.screen import aligned, next_step, readable
from mukret.engine.notices import misshapen_notice
from mukret.inspect.drift import Drift
from mukret.semantics.tally import Reason
from mukret.text import counted, escaped, shortened
from mukret.values import shown_text

MOST_LINES = 30
LONGEST = 46


def print_drift(drift: Drift, again: tuple[str, ...] | None) -> None:
    """The parts in which something was found, then what to type next: the same command, of which
    `again` are the words, with what leaves out what is unread.
    """
    for title, rows, right in _parts(drift):
        click.secho(f"\n{title}", bold=True)
        shown = [list(map(escaped, row)) for row in rows[:MOST_LINES]]
        for line in aligned(shown, right=right):
            click.echo(f"  {line}")
        if len(rows) > MOST_LINES:
            click.echo(f"  … and {len(rows) - MOST_LINES:,} more (--json shows all)")
    _print_bad(drift)
    _print_misshapen(drift)
    _print_reasons("Does not fit", drift.unfit)
    _print_reasons("Becomes null, as the rules say", drift.nulled)
    click.echo(f"\n{_summary(drift)}")
    # Printed as it was typed, with one option more, so that it can be repeated.
    if drift.unread and again is not None:
        click.echo("what no rule reads, left out from now on:", err=True)
        next_step("check", *again, "--ignore-now")


def _print_bad(drift: Drift) -> None:
    if not drift.bad:
        return
    click.secho("\nDocuments that can't be read", bold=True)
    for reason in drift.bad:
        for line in bad_document_lines(reason):
            click.echo(f"  {line}")


def _print_misshapen(drift: Drift) -> None:
    if not drift.misshapen:
        return
    click.secho("\nRows in another shape", bold=True)
    for notice in map(misshapen_notice, drift.misshapen):
        click.echo(f"  {escaped(notice.message)}")
        click.secho(f"      {escaped(notice.hint or '')}", dim=True)


def _print_reasons(title: str, reasons: Sequence[tuple[Reason, int]]) -> None:
    """Ways in which values are bad, each with the number of rows of its table, and where the first
    case is.
    """
    if not reasons:
        return
    click.secho(f"\n{title}", bold=True)
    lines = aligned([_counts(reason, rows) for reason, rows in reasons], right=(1,))
    for line, (reason, _) in zip(lines, reasons, strict=True):
        click.echo(f"  {line}")
        click.secho(f"      {_place(reason)}", dim=True)


def _parts(drift: Drift) -> Iterator[tuple[str, list[list[str]], tuple[int, ...]]]:
    # In the order in which they cost most: what is lost, what is empty, what is rejected.
    if drift.unread:
        rows = [
            [
                finding.path,
                f"{finding.count:,}",
                f"e.g. {shortened(finding.example, LONGEST)}",
            ]
            for finding in drift.unread
        ]
        yield "Read by no rule", rows, (1,)
    if drift.unmatched:
        unmatched = [
            [
                _dotted(finding.table, finding.field),
                finding.path,
                f"{finding.file}:{finding.line}",
                finding.hint or "",
            ]
            for finding in drift.unmatched
        ]
        yield "Finds nothing", unmatched, ()
    if drift.words:
        words = [
            [
                f"{finding.table}.{finding.field}",
                shortened(shown_text(finding.word), LONGEST),
                f"{finding.count:,}",
                f"not in {finding.enum}",
            ]
            for finding in drift.words
        ]
        yield "Words that are new", words, (2,)


def _counts(reason: Reason, rows: int) -> list[str]:
    value = reason.example.value
    shown = f"e.g. {shortened(shown_text(value), LONGEST)}" if value is not None else ""
    what = _dotted(reason.table, reason.field)
    return [escaped(what), f"{reason.count:,} of {rows:,}", reason.code, shown]


def _place(reason: Reason) -> str:
    path = f"{readable(reason.example.path)} in " if reason.example.path else ""
    return escaped(f"{path}{reason.file}, document {reason.document}")


def _summary(drift: Drift) -> str:
    read = counted(drift.documents, "document")
    if drift.bad_documents:
        read += f", {drift.bad_documents:,} more can't be read"
    parts = [
        counted(len(drift.unread), "path") + " read by no rule" if drift.unread else "",
        counted(len(drift.unmatched), "rule") + " without effect"
        if drift.unmatched
        else "",
        counted(len(drift.misshapen), "table") + " of another shape"
        if drift.misshapen
        else "",
        counted(len(drift.words), "new word") if drift.words else "",
        counted(len(drift.unfit), "kind") + " of misfits" if drift.unfit else "",
    ]
    # Documents that can't be read are a finding: all is not as expected.
    rest = "nothing else" if drift.bad_documents else "all as the rules expect"
    return f"{read}: {', '.join(filter(None, parts)) or rest}"


def _dotted(table: str | None, field: str | None) -> str:
    return ".".join(filter(None, (table, field)))
