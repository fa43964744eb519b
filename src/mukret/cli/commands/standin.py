"""`mukret standin`: the sample's service, simulated, on the loopback interface."""

from __future__ import annotations

import click

from mukret.cli.commands.handling import handled
from mukret.cli.commands.options import examples

DEFAULT_PORT = 8431


@click.command(
    "standin",
    epilog=examples(
        "mukret standin",
        "mukret standin --faults 0.2 --seed 7",
        note="each in a terminal of its own",
    ),
)
@click.option(
    "--port",
    metavar="N",
    type=click.IntRange(0, 65535),
    default=DEFAULT_PORT,
    show_default=True,
    help="Port to listen on; 0 takes a free one.",
)
@click.option(
    "--faults",
    metavar="SHARE",
    type=click.FloatRange(0, 1),
    default=0.0,
    help=(
        "This share of the answers is faulty: 429, 500, cut, slow, a page, a repeated "
        "cursor, a dead pass."
    ),
)
@click.option("--seed", metavar="N", type=int, help="Draw the same faults again.")
@click.option(
    "--per-second",
    metavar="N",
    type=click.FloatRange(0.1),
    help="Answer 429 to what goes beyond so many requests a second.",
)
@click.option(
    "--pass-seconds",
    metavar="N",
    type=click.IntRange(1),
    default=3600,
    show_default=True,
    help="For how long a pass from /boarding is good.",
)
@handled
def command() -> None:
    """Run a service that answers as the timetable service of the Merrow Isles would: made up, and
    reachable from this machine alone. It has lists of every kind of paging, a sign-in, and what
    hangs on each port. Ctrl-C ends it.
    """
