"""What is printed about a draft, and asked while it is made."""

from __future__ import annotations

from collections.abc import Sequence

import click

from mukret.cli.views.screen import next_step
from mukret.drafting import Draft
from mukret.drafting.adding import Added
from mukret.drafting.wanted import Choice
from mukret.text import counted


def summary(draft: Draft) -> str:
    """`3 tables with 24 fields`"""
    fields = sum(len(table.fields) for table in draft.tables)
    return f"{counted(len(draft.tables), 'table')} with {counted(fields, 'field')}"


def print_drafted(
    draft: Draft, out: str | None, files: Sequence[str], *, sources: int
) -> None:
    """`out`: the file that was written; None if the draft stands on the screen."""
    if out is not None:
        tried = f"{summary(draft)}, tried on {counted(sources, 'file')}"
        click.echo(f"{click.style(out, bold=True)}: {tried}", err=True)
        next_step("preview", out, *files)
    # What the draft could not see is said beside it: it looks complete otherwise.
    if draft.bad_documents:
        bad = counted(draft.bad_documents, "document")
        click.echo(f"{bad} could not be read: mukret survey says why", err=True)
    if draft.rejected:
        rows = counted(draft.rejected, "row")
        click.echo(f"{rows} of these would be rejected: the comments say why", err=True)


def print_added(added: Added, rules: str) -> None:
    """What was added to a rules file, and what is to be decided there."""
    if not added.anything:
        click.echo(f"{rules}: nothing is new{_rejected(added.rejected)}", err=True)
        return
    told = (
        f"{counted(len(added.fields), 'field')}, {counted(len(added.tables), 'table')}"
    )
    ignored = counted(len(added.ignored), "path")
    click.echo(
        f"{click.style(rules, bold=True)}: {told} and {ignored} to ignore added",
        err=True,
    )
    for name in (*added.fields, *added.tables):
        click.echo(f"  {name}", err=True)
    for path in added.ignored:
        click.echo(f"  {path} (ignored)", err=True)
    for proposal in added.proposals:
        click.echo(f"  {proposal.table}.{proposal.field}: {proposal.words}", err=True)
    # Proposals stand as comments, and nothing is different until somebody takes them.
    if added.proposals:
        count = counted(len(added.proposals), "proposal")
        rejected = _rejected(added.rejected)
        click.echo(f"{count} put above these fields, to be decided{rejected}", err=True)


def _rejected(rows: int) -> str:
    return (
        f"; {counted(rows, 'row')} would be rejected as the rules stand" if rows else ""
    )


def ask_which(choice: Choice) -> bool:
    """Asks which of two places is meant; True for the second."""
    column = f"{choice.table}.{choice.column}"
    click.echo(
        f"{column}: two places give it; they differ in row {choice.row}:", err=True
    )
    for number, (place, value) in enumerate(
        zip(choice.places, choice.values, strict=True), 1
    ):
        click.echo(f"  {number}  {value}  {click.style(place, dim=True)}", err=True)
    # On standard error, so that the draft can go to a file by `>`.
    answer: str = click.prompt(
        "which is it?", type=click.Choice(["1", "2"]), default="1", err=True
    )
    return answer == "2"
