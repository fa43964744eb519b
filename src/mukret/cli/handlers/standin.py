"""`mukret standin`: the sample's service, simulated, on the loopback interface."""

from __future__ import annotations

from dataclasses import dataclass

import click

from mukret.sample.faults import Faults
from mukret.sample.service import PASSWORD, TOKEN, USER, StandIn


@dataclass(frozen=True, kw_only=True)
class Request:
    """What was typed after `mukret standin`."""

    port: int
    faults: float
    seed: int | None
    per_second: float | None
    pass_seconds: int


def handle(request: Request) -> int:
    service = StandIn(
        request.port,
        faults=Faults(request.faults, request.seed),
        per_second=request.per_second,
        pass_seconds=request.pass_seconds,
    )
    _print_how_to_ask(service)
    service.serve(lambda line: click.echo(line, err=True))
    return 0


def _print_how_to_ask(service: StandIn) -> None:
    secrets = f"FERRY_USER={USER} FERRY_PASSWORD={PASSWORD} FERRY_PASS={TOKEN}"
    click.echo(
        f"The sample service listens on {service.base} (this machine only; Ctrl-C ends it)"
    )
    # Said outright, since they stand on the screen.
    click.echo("  its user, password and pass are made up and open no door:")
    click.secho(f"    export {secrets}", fg="green")
    click.echo("  in another terminal:")
    for line in (
        f"mukret collect '{service.base}/timetable?day=2031-03-28' --to kept",
        f"mukret collect {service.base}/ports --bearer FERRY_PASS --follow '$..sailings_url' "
        "--to kept",
        "mukret collect merrow-demo/service.calls.yaml --to kept    # after mukret demo",
    ):
        click.secho(f"    {line}", fg="green")
