"""What is said of a calls file without problems."""

from __future__ import annotations

from collections.abc import Mapping

import click

from mukret.cli.views.screen import next_step
from mukret.collect import Calls
from mukret.text import counted


def print_calls(calls: Calls, file: str, environment: Mapping[str, str]) -> None:
    """What a calls file has, and the secrets that the environment lacks."""
    variables = sorted({secret.variable for secret in calls.secrets()})
    secrets = ", ".join(variables) or "none"
    click.echo(
        f"{file}: no problems ({counted(len(calls.calls), 'call')}; secrets: {secrets})"
    )
    # Only whether it is set is told; a test of calls files has to work where there are no secrets.
    for variable in variables:
        if not environment.get(variable):
            click.secho(f"  the environment has no {variable}", fg="yellow", err=True)
    # A dry run shows the requests without sending any.
    next_step("collect", file, "--dry-run")
