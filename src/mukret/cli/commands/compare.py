"""`mukret compare`: what differs between two deliveries, or between what two versions of the rules
give.
"""

from __future__ import annotations

import click

from mukret.cli.commands import completing
from mukret.cli.commands.handling import handled
from mukret.cli.commands.options import (
    examples,
    json_option,
    newest_option,
    output_options,
)


@click.command(
    "compare",
    epilog=examples(
        "mukret compare merrow-demo/tables sqlite:///ferries.db --ignore-fields "
        "generated_at,log.found_in",
        "mukret compare merrow-demo/merrow.rules.yaml new.rules.yaml merrow-demo/feed",
    ),
)
@click.argument("old", metavar="OLD", shell_complete=completing.files)
@click.argument("new", metavar="NEW", shell_complete=completing.files)
@click.argument("files", metavar="[FILE...]", nargs=-1, shell_complete=completing.files)
@click.option(
    "--ignore-fields",
    "ignored",
    metavar="A,B",
    shell_complete=completing.compared_fields,
    help="Fields that are not looked at: NAME, or TABLE.NAME for one table alone.",
)
@newest_option
@json_option
@output_options
@handled
def command() -> None:
    """Say what is different: in the delivery NEW beside the delivery OLD (folders that `extract`
    wrote, sqlite:///…, postgresql://…, of whatever kinds), or in what the rules NEW make of FILE...
    beside the rules OLD.

    Of deliveries: rows that came, went and changed, told apart by the key of their table (where it
    has none, whole rows are counted), and columns that came, went, have another type or another
    name. Of rules: rows that are written in one version only and why, and values that changed; rows
    are the same if they stand at one place of a response. Each is counted and shown by its first
    cases; numbers are compared by their value. Exit code 1 if anything is different.
    """
