"""`mukret collect`: ask a service for responses and keep each as it came."""

from __future__ import annotations

import click

from mukret.cli.commands.handling import handled
from mukret.cli.commands.options import (
    examples,
    json_option,
    output_options,
)


@click.command(
    "collect",
    epilog=examples(
        "mukret collect merrow-demo/service.calls.yaml --to kept",
        (
            "mukret collect http://127.0.0.1:8431/v2/ports --bearer FERRY_PASS --follow "
            "'$..sailings_url' --to kept"
        ),
        note="of the service that `mukret standin` starts",
    ),
)
@click.argument("source", metavar="URL|CALLS.yaml")
@click.option(
    "--to",
    "targets",
    metavar="DIR",
    multiple=True,
    help=(
        "The folder that keeps the responses; with --then a second one is the tables' DEST."
    ),
)
@click.option(
    "--header",
    "headers",
    metavar="'NAME: VALUE'",
    multiple=True,
    help="Send this header; may be repeated.",
)
@click.option(
    "--query",
    "query",
    metavar="NAME=VALUE",
    multiple=True,
    help="Add to the query; may be repeated.",
)
@click.option(
    "--header-from",
    metavar="NAME VARIABLE",
    nargs=2,
    multiple=True,
    help="A header whose value is in the environment.",
)
@click.option(
    "--query-from",
    metavar="NAME VARIABLE",
    nargs=2,
    multiple=True,
    help="A query member from the environment.",
)
@click.option(
    "--basic",
    metavar="VARIABLE VARIABLE",
    nargs=2,
    help="Sign in with user and password (RFC 7617).",
)
@click.option("--bearer", metavar="VARIABLE", help="Sign in with a token (RFC 6750).")
@click.option(
    "--pages",
    "pages",
    metavar="HOW",
    help=(
        "How URL goes on, as a calls file has it: '{cursor: \"$.next_cursor\", as: cursor}' …"
    ),
)
@click.option(
    "--follow",
    metavar="PATH",
    multiple=True,
    help="Ask also for addresses that stand there in answers, at the same service.",
)
@click.option(
    "--with",
    "constants",
    metavar="NAME=VALUE",
    multiple=True,
    help="The value of a variable of CALLS.yaml, instead of the one that stands there.",
)
@click.option(
    "--since-last",
    is_flag=True,
    help="Have only that sent which has changed (ETag, Last-Modified).",
)
@click.option(
    "--go-on",
    is_flag=True,
    help="Go on with the last round, though it ended: ask only for what is missing.",
)
@click.option(
    "--anew",
    is_flag=True,
    help="Begin a new round, though the last one was interrupted.",
)
@click.option(
    "--dry-run",
    is_flag=True,
    help="Show what would be asked, secrets masked; send nothing.",
)
@click.option(
    "--then",
    metavar="RULES",
    help="Extract what was collected by these rules, to a second --to.",
)
@click.option(
    "--timeout",
    metavar="SECONDS",
    type=click.FloatRange(0.1),
    help="For connecting, and for each silence of the service; 30 if it is not said.",
)
@click.option(
    "--max-body",
    metavar="SIZE",
    default="1GB",
    show_default=True,
    help="No answer may be larger, unpacked: 500MB, 2GB …",
)
@click.option(
    "--max-time",
    metavar="SECONDS",
    type=click.FloatRange(0.1),
    default=3600.0,
    show_default=True,
    help="No answer may take longer as a whole.",
)
@click.option(
    "--save-calls",
    metavar="FILE",
    help="Write a calls file to go on from; secrets stay in the environment.",
)
@json_option
@output_options
@handled
def command() -> None:
    """Ask URL, or the calls of CALLS.yaml (page by page, and once per record of earlier answers),
    and keep every response byte for byte in DIR/pages, with a line in DIR/capture.jsonl about where
    it came from and when. DIR can then be given to any other command.

    VARIABLE is the name of an environment variable: secrets are never typed, printed or kept. What
    was interrupted goes on where it stopped when the same is typed again; after that, later answers
    stand beside earlier ones.

    An answer that is no data (its status is not 2xx, or its body is not JSON) is kept apart in
    DIR/apart. Exit code 0: all is kept; 1: some answers were kept apart, or a list did not come to
    its end; 3: none is data, or the service was not reached.
    """
