"""`mukret standin`: the sample's service, simulated, on the loopback interface."""

from __future__ import annotations

import click

from mukret.cli.options import examples

DEFAULT_PORT = 8431


@click.command(
    "standin",
    short_help="Run the sample service, simulated, on this machine only.",
    epilog=examples("mukret standin", "mukret standin --port 9000", note="each in a terminal of its own"),
)
@click.option("--port", metavar="N", type=click.IntRange(0, 65535), default=DEFAULT_PORT, show_default=True,
              help="Port to listen on; 0 takes a free one.")  # fmt: skip
def command(port: int) -> None:
    """Run a service that answers as the timetable service of the Merrow Isles would: made up, and reachable from this
    machine alone. Ctrl-C ends it.
    """
    from mukret.sample.service import PASSWORD, TOKEN, USER, StandIn

    service = StandIn(port)
    click.echo(f"The sample service listens on {service.base} (this machine only; Ctrl-C ends it)")
    click.echo("  its user, password and pass are made up and open no door:")
    click.secho(f"    export FERRY_USER={USER} FERRY_PASSWORD={PASSWORD} FERRY_PASS={TOKEN}", fg="green")
    click.echo("  in another terminal:")
    click.secho(f"    mukret collect '{service.base}/timetable?day=2031-03-28' --to kept", fg="green")
    click.secho(f"    mukret collect {service.base}/ports --bearer FERRY_PASS --to kept", fg="green")
    click.secho(f"    mukret collect {service.base}/welcome --to kept     # a page, not data", fg="green")
    service.serve(lambda line: click.echo(line, err=True))
