"""How errors, warnings and problems of rules are printed: what, where, and what to do."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

import click

from mukret.cli.views.screen import windowed
from mukret.errors import Diagnostic, MukretError, Notice, RulesError
from mukret.text import counted, escaped

MOST_NOTICES = 20
_COLOURS = {"error": "red", "warning": "yellow"}


def print_error(error: MukretError) -> None:
    """One error, or every problem of a rules file."""
    if isinstance(error, RulesError):
        _print_diagnostics(error)
        return
    _print_message("error", f"{error.message} [{error.code}]", error.place)
    # A long line is cut around the caret, so that it stands below what it means.
    if error.pointer:
        line, caret = windowed(*error.pointer)
        click.echo(f"    {line}", err=True)
        click.secho(f"    {' ' * caret}^", fg="red", bold=True, err=True)
    print_hint(error.hint)


def print_failure(message: str, *, place: str | None, hint: str | None) -> None:
    """One thing that went wrong in a run that goes on."""
    _print_message("error", message, place)
    print_hint(hint)


def print_warning(
    message: str, *, place: str | None = None, hint: str | None = None
) -> None:
    _print_message("warning", message, place)
    print_hint(hint)


def print_notices(notices: Sequence[Notice]) -> None:
    """Warnings, each with its place and what to do; of very many the first ones."""
    for notice in notices[:MOST_NOTICES]:
        print_warning(
            f"{notice.message} [{notice.code}]", place=notice.place, hint=notice.hint
        )
    # By kind: the hundredth warning of one kind says nothing new.
    more = Counter(notice.code for notice in notices[MOST_NOTICES:])
    if more:
        shown = ", ".join(f"{count:,} × {code}" for code, count in more.most_common())
        click.echo(
            f"  … and {counted(more.total(), 'more warning')}: {shown}", err=True
        )


def print_unmatched(path: str, near: str | None) -> None:
    """The warning that a path found nothing in all of the input; `near` is one that does."""
    print_warning(f"{path} finds nothing in all of the input [unmatched]", hint=near)


def print_hint(hint: str | None) -> None:
    if hint:
        click.secho("  hint: ", fg="cyan", nl=False, err=True)
        click.echo(escaped(hint), err=True)


def _print_message(label: str, message: str, place: str | None) -> None:
    click.secho(f"{label}: ", fg=_COLOURS[label], bold=True, nl=False, err=True)
    click.echo(escaped(message), err=True)
    if place:
        click.echo(f"  at {escaped(place)}", err=True)


def _print_diagnostics(error: RulesError) -> None:
    for diagnostic in error.diagnostics:
        _print_diagnostic(diagnostic)
    count = counted(len(error.diagnostics), "problem")
    click.echo(f"{error.file}: {count}; no input was opened", err=True)


def _print_diagnostic(diagnostic: Diagnostic) -> None:
    """What is wrong, and the line of the file with a caret below it."""
    place = f"{diagnostic.file}:{diagnostic.line}:{diagnostic.column}"
    _print_message("error", f"{diagnostic.message} [{diagnostic.code}]", place)
    line, caret = windowed(diagnostic.source, diagnostic.column - 1)
    # A problem at the end of the file has no line to show.
    if line.strip():
        number = str(diagnostic.line)
        click.secho(f"    {number} │ ", dim=True, nl=False, err=True)
        click.echo(line, err=True)
        click.secho(f"    {' ' * len(number)} │ ", dim=True, nl=False, err=True)
        click.secho(f"{' ' * caret}^", fg="red", bold=True, err=True)
    print_hint(diagnostic.hint)
    click.echo(err=True)
