"""`mukret preview`: reads rules and a beginning of the input, and shows what comes of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import click

from mukret.cli.handlers.conditions import typed_condition
from mukret.cli.handlers.inputs import known_table, listed, loaded_rules
from mukret.cli.handlers.request import Talk
from mukret.cli.handlers.watching import watch
from mukret.cli.views.comparison import print_comparison
from mukret.cli.views.preview import PreviewView, print_as_json, print_next
from mukret.cli.views.progress import progress_bar
from mukret.codes import Code
from mukret.documents import find_sources
from mukret.errors import UsageError
from mukret.inspect.comparing import Comparing, same_parts
from mukret.inspect.preview_run import PreviewRun, RowChoice
from mukret.rules import Rules
from mukret.rules.model import Table
from mukret.text import did_you_mean

# So much of the input is read at every save, as far as there is time between two.
MOST_WATCHED = 4_000_000


@dataclass(frozen=True, kw_only=True)
class Request(Talk):
    """What was typed after `mukret preview`."""

    rules: str
    files: tuple[str, ...]
    table: str | None
    rows: int
    sample: int | None
    seed: int
    where: str | None
    columns: str | None
    wide: bool
    raw: bool
    watched: bool
    newest: bool
    as_json: bool

    def preview_run(self, *, most_bytes: int | None = None) -> PreviewRun:
        """Reads the rules; of the input, nothing so far."""
        rules = loaded_rules(self.rules, self.files)
        return PreviewRun(
            rules,
            find_sources(self.files, newest=self.newest),
            self._choice(rules),
            # JSON has rejects in a list of their own.
            with_rejected=not self.as_json,
            with_stood=self.raw,
            most_bytes=most_bytes,
        )

    def _choice(self, rules: Rules) -> RowChoice:
        table = self._only_table(rules)
        condition = None
        # A condition is one on the columns of one table.
        if table is not None and self.where:
            condition = typed_condition(dict(table.columns), self.where)
        return RowChoice(
            list(rules.tables) if table is None else [table.name],
            self.rows,
            self.sample,
            self.seed,
            condition,
        )

    def view(self, rules: Rules) -> PreviewView:
        return PreviewView(self.shown_columns(rules), self.wide, notices=not self.quiet)

    def shown_columns(self, rules: Rules) -> Sequence[str] | None:
        table = self._only_table(rules)
        return (
            _known_columns(table, self.columns)
            if table is not None and self.columns
            else None
        )

    def _only_table(self, rules: Rules) -> Table | None:
        """The table to show; None for all of them."""
        only_one = (
            self.table is not None or self.where is not None or self.columns is not None
        )
        return known_table(rules, self.table) if only_one else None


def handle(request: Request) -> int:
    logger = request.start_log()
    _refuse_nonsense(request)
    if request.watched:
        watch(
            request.rules,
            lambda: request.preview_run(most_bytes=MOST_WATCHED),
            lambda new, old: _show_changed(request, new, old),
        )
        return 0
    seen = request.preview_run()
    columns = request.shown_columns(seen.rules)
    with progress_bar(
        seen.run.sources, quiet=request.quiet or request.as_json
    ) as progress:
        seen.run.progress = progress
        seen.go_on()
    logger.info("%s: %d documents looked at", request.rules, seen.run.tally.documents)
    if request.as_json:
        print_as_json(seen, columns)
    else:
        request.view(seen.rules).print(seen)
        if not request.quiet:
            print_next(seen, request.rules, request.files)
    # Rejects are findings, so that a script sees them as it does with `extract`.
    return 1 if seen.findings else 0


def _refuse_nonsense(request: Request) -> None:
    """Raises UsageError."""
    # Standard input can be read once.
    if request.watched and (request.as_json or "-" in request.files):
        message = (
            "--watch reads the files again and again, for a screen: no --json, no standard "
            "input"
        )
        raise UsageError(Code.USAGE, message)
    if request.raw and request.as_json:
        raise UsageError(
            Code.USAGE, "--raw is for the screen: --json has no place for it"
        )


def _known_columns(table: Table, text: str) -> Sequence[str]:
    known = dict(table.columns)
    names = listed(text)
    for name in names:
        if name not in known:
            # The list where nothing is near: most tables have a few columns.
            hint = did_you_mean(name, known) or f"columns: {', '.join(known)}"
            raise UsageError(
                Code.USAGE, f"{table.name} has no column {name}", hint=hint
            )
    return names


def _show_changed(request: Request, new: PreviewRun, old: PreviewRun | None) -> None:
    """The rows, and what a save of the rules changed, as far as the input was read under both."""
    request.view(new.rules).print(new)
    if old is None:
        return
    click.secho("what the save changed", bold=True)
    # Only the same documents tell what the rules changed.
    if not same_parts(old.run, new.run):
        click.echo(
            "the input was cut in other places: mukret compare OLD NEW FILE... says what changed"
        )
        return
    comparing = Comparing(old.rules, new.rules)
    # One may have been read further than the other: what both have is compared.
    for before, after in zip(old.preview.kept, new.preview.kept, strict=False):
        comparing.see(before, after)
    print_comparison(comparing.found, new.rules)
    if new.run.cut_short:
        click.secho(f"after {MOST_WATCHED // 1_000_000} MB reading stopped", dim=True)
