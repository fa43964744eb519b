"""What is said of a rules file or calls file without problems."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass

import click

from mukret.cli.views.problems import print_notices
from mukret.errors import Diagnostic, Notice
from mukret.rules import Rules
from mukret.semantics.examples import Outcome
from mukret.text import counted, escaped
from mukret.values import JsonValue


@dataclass(frozen=True)
class Checked:
    """Rules without problems, the warnings about them, and what their examples gave."""

    rules: Rules
    warnings: Sequence[Notice]
    outcomes: Sequence[Outcome]

    @property
    def failed(self) -> int:
        """How many examples failed."""
        return sum(not outcome.passed for outcome in self.outcomes)

    @property
    def examples_in_short(self) -> str:
        return f"{len(self.outcomes)} examples, {self.failed} failed"

    def as_json(self) -> dict[str, JsonValue]:
        examples = [
            {"shows": outcome.example.shows, "differences": list(outcome.differences)}
            for outcome in self.outcomes
        ]
        warnings = [asdict(warning) for warning in self.warnings]
        return {"problems": [], "warnings": warnings, "examples": examples}


def print_checked(checked: Checked) -> None:
    for outcome in checked.outcomes:
        _print_outcome(outcome)
    tables = checked.rules.tables.values()
    fields = sum(len(table.fields) for table in tables)
    failed = checked.failed
    verdict = f"{counted(failed, 'example')} failed" if failed else "no problems"
    size = f"{counted(len(tables), 'table')}, {counted(fields, 'field')}"
    examples = counted(len(checked.outcomes), "example")
    click.echo(f"{checked.rules.file}: {verdict} ({size}, {examples})")
    # Last, behind the verdict: they are no problems and change no exit code.
    print_notices(checked.warnings)


def _print_outcome(outcome: Outcome) -> None:
    example = outcome.example
    # A line each, so that an example that somebody forgot to run is missed.
    if outcome.passed:
        click.echo(f"{click.style('passes', fg='green')}  {escaped(example.shows)}")
        return
    fails = click.style("fails", fg="red", bold=True)
    place = f"{example.file}:{example.line}:{example.column}"
    click.echo(f"{fails}   {escaped(example.shows)} [example-failed] at {place}")
    for difference in outcome.differences:
        click.echo(f"          {escaped(difference)}")


def problems_as_json(problems: Sequence[Diagnostic]) -> JsonValue:
    """The report on a file that can't be used: nothing but its problems was looked at."""
    shown = [asdict(problem) for problem in problems]
    for problem in shown:
        del problem["source"]
    return {"problems": shown, "warnings": [], "examples": []}
