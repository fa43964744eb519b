"""`mukret demo`: the whole way on the sample feed, each command printed before it runs."""

from __future__ import annotations

import os
import shlex
from dataclasses import dataclass
from pathlib import Path

import click

from mukret.cli.commands.standin import DEFAULT_PORT
from mukret.cli.main import main
from mukret.codes import Code
from mukret.errors import OutputError
from mukret.sample import FEED_FOLDER, sample_files
from mukret.sample.service import PASSWORD, USER, is_standing_in, standing_in

SAILINGS = "$.network.ports[*].sailings[*]"
NEXT = (
    ("see all of the feed, place by place", "mukret survey {to}/feed"),
    ("begin rules of your own for it", "mukret draft {to}/feed"),
    ("read what was set aside, and why", "cat {to}/tables/rejects.jsonl"),
    (
        "ask how a value came about",
        "mukret trace {rules} {to}/feed --table sailings --nth 3 --field family_fare",
    ),
    (
        "see what is in the feed that the rules don't expect",
        "mukret check {rules} {to}/feed",
    ),
    (
        "change a rule and look again",
        "mukret preview {rules} {to}/feed --table sailings",
    ),
    (
        "let only a clean run through",
        "mukret extract {rules} {to}/feed --to {to}/tables --max-rejects 1%",
    ),
    (
        "keep the sample's service running, and ask it yourself: it says how",
        "mukret standin",
    ),
)


@dataclass(frozen=True, kw_only=True)
class Request:
    """What was typed after `mukret demo`."""

    target: str


def handle(request: Request) -> int:
    target = request.target
    # Each step is the command itself, called in this process: what is shown is what would be typed.
    _copy_sample(target)
    rules, feed, tables = (
        f"{target}/merrow.rules.yaml",
        f"{target}/feed",
        f"{target}/tables",
    )
    wanted = f"{target}/crossings.csv"
    _step(
        "What does the feed send? One of its sailings, as it stands.",
        ["look", feed, SAILINGS, "--nth", "3"],
    )
    _step(
        "What is in all of them, and what surprises?",
        ["survey", feed, "--path", SAILINGS, "--quiet"],
    )
    _step(
        "No rules yet? Three rows of the wanted table are enough.",
        ["draft", feed, "--like", wanted],
    )
    _step("Are the rules in order? Do their examples hold?", ["check", rules])
    _step(
        "What do they make of the feed?",
        ["preview", rules, feed, "--table", "bookings", "--rows", "4"],
    )
    _step(
        "The job itself: every table, and every reject on record.",
        ["extract", rules, feed, "--to", tables],
    )
    # Last, since it starts a service and takes the longest.
    _ask_the_service(target)
    click.echo()
    click.secho("Next:", bold=True)
    for what, line in NEXT:
        click.echo(f"  {what}")
        typed = line.format(to=shlex.quote(target), rules=shlex.quote(rules))
        click.secho(f"    {typed}", fg="green")
    return 0


def _ask_the_service(target: str) -> None:
    """Collects from the sample's service, which runs on this machine as long as that takes."""
    why = (
        "The same out of a service (the sample's own, simulated): sign in, page by page, what "
        "hangs on each port."
    )
    calls, rules = f"{target}/service.calls.yaml", f"{target}/service.rules.yaml"
    arguments = [
        "collect",
        calls,
        "--to",
        f"{target}/kept",
        "--then",
        rules,
        "--to",
        f"{target}/service-tables",
    ]
    os.environ |= {"FERRY_USER": USER, "FERRY_PASSWORD": PASSWORD}
    # Another terminal has it running already.
    if is_standing_in(DEFAULT_PORT):
        _step(why, arguments)
        return
    try:
        with standing_in(DEFAULT_PORT):
            _step(why, arguments)
    except OutputError as error:
        # A foreign program on the port is no reason to break off the tour.
        if error.code != Code.PORT_TAKEN:
            raise
        click.echo(f"\n# Left out: asking a service. {error.message}")


def _copy_sample(target: str) -> None:
    try:
        for name, source in sample_files().items():
            place = Path(target) / name
            place.parent.mkdir(parents=True, exist_ok=True)
            # Rules may have been worked on; the feed is nobody's to change.
            is_own_file = not name.startswith(f"{FEED_FOLDER}/")
            if (
                is_own_file
                and place.exists()
                and place.read_bytes() != source.read_bytes()
            ):
                click.echo(f"kept: {place}, which you have changed", err=True)
                continue
            place.write_bytes(source.read_bytes())
    except OSError as error:
        raise OutputError(
            Code.NOT_WRITTEN,
            f"{target}: {(error.strerror or str(error)).lower()}",
            hint="mukret demo --to ANOTHER_FOLDER",
        ) from None


def _step(why: str, arguments: list[str]) -> None:
    """Prints a command and runs it as it stands; its exit code is part of what there is to see."""
    click.echo()
    click.secho(f"# {why}", dim=True)
    click.secho("$ ", fg="green", bold=True, nl=False)
    click.secho(shlex.join(["mukret", *arguments]), bold=True)
    code = main.main(arguments, standalone_mode=False, prog_name="mukret")
    # Shown and explained: the demo has mistakes in it on purpose.
    if code:
        click.secho(f"(exit code {code}: done, with findings)", dim=True)
