"""`mukret standin`: the sample's service, simulated, on the loopback interface."""

from __future__ import annotations

import click

from mukret.cli.options import examples

DEFAULT_PORT = 8431


@click.command(
    "standin",
    short_help="Run the sample service, simulated, on this machine only.",
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
def command(
    port: int, faults: float, seed: int | None, per_second: float | None, pass_seconds: int
) -> None:
    """Run a service that answers as the timetable service of the Merrow Isles would: made up, and
    reachable from this machine alone. It has lists of every kind of paging, a sign-in, and what
    hangs on each port. Ctrl-C ends it.
    """
    from mukret.sample.faults import Faults
    from mukret.sample.service import PASSWORD, TOKEN, USER, StandIn

    drawn = Faults(faults, seed)
    service = StandIn(port, faults=drawn, per_second=per_second, pass_seconds=pass_seconds)
    click.echo(f"The sample service listens on {service.base} (this machine only; Ctrl-C ends it)")
    click.echo("  its user, password and pass are made up and open no door:")
    click.secho(
        f"    export FERRY_USER={USER} FERRY_PASSWORD={PASSWORD} FERRY_PASS={TOKEN}", fg="green"
    )
    click.echo("  in another terminal:")
    click.secho(
        f"    mukret collect '{service.base}/timetable?day=2031-03-28' --to kept", fg="green"
    )
    click.secho(
        f"    mukret collect {service.base}/ports --bearer FERRY_PASS --follow '$..sailings_url' "
        "--to kept",
        fg="green",
    )
    click.secho(
        "    mukret collect merrow-demo/service.calls.yaml --to kept    # after mukret demo",
        fg="green",
    )
    service.serve(lambda line: click.echo(line, err=True))
