"""How the way of a row is drawn: its fields, each with the steps to its value."""

from __future__ import annotations

import click

from mukret.inspect.tracing import Traced, TracedRow
from mukret.text import escaped


def print_row(row: TracedRow) -> None:
    click.echo(f"{click.style(row.table, bold=True)}, a row that is {row.outcome}")
    click.echo(escaped(f"at {row.path} in {row.file}, document {row.document}"))
    for problem in row.problems:
        click.secho(f"  {escaped(problem)}", fg="red")
    for traced in row.fields:
        click.echo("")
        _print_field(traced, 0)


def _print_field(traced: Traced, depth: int) -> None:
    """A field, and below it, indented, those that it was made of."""
    indent = "    " * depth
    name, kind = click.style(traced.name, bold=True), click.style(traced.type, dim=True)
    value = (
        click.style("null", dim=True) if traced.value is None else escaped(traced.value)
    )
    click.echo(f"{indent}{name} {kind}  {value}")
    if traced.problem:
        click.secho(f"{indent}    {escaped(traced.problem)}", fg="red")
    for step in traced.steps:
        click.echo(f"{indent}    {escaped(step)}")
    # What it was made of stands below it, as deep as expressions go.
    for inner in traced.inner:
        _print_field(inner, depth + 1)
