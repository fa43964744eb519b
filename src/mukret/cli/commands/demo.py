"""`mukret demo`: the whole way on the sample feed, each command printed before it runs."""

from __future__ import annotations

import click

from mukret.cli.commands.handling import handled
from mukret.cli.commands.options import examples


@click.command(
    "demo",
    epilog=examples("mukret demo", "mukret demo --to /tmp/merrow"),
)
@click.option(
    "--to",
    "target",
    metavar="DIR",
    default="merrow-demo",
    show_default=True,
    help="Where the sample goes.",
)
@handled
def command() -> None:
    """Write the sample feed (the ferries of the Merrow Isles, made up) and its rules to DIR, and
    run each step on it.

    A rules file in DIR that you have changed is kept, and so is the file that it refers to.
    """
