"""`mukret extract`: the main job."""

from __future__ import annotations

import click

from mukret.cli.commands.handling import handled
from mukret.cli.commands.options import (
    delivery_options,
    examples,
    files_argument,
    json_option,
    newest_option,
    output_options,
    rules_argument,
)


@click.command(
    "extract",
    epilog=examples(
        "mukret extract merrow-demo/merrow.rules.yaml merrow-demo/feed --to tables",
        (
            "mukret extract merrow-demo/merrow.rules.yaml merrow-demo/feed --to - --format json "
            "--nested --table ports"
        ),
    ),
)
@rules_argument
@files_argument
@delivery_options
@click.option(
    "--skip-seen",
    is_flag=True,
    help="Pass over inputs whose content is there already, with append and upsert.",
)
@click.option(
    "--workers",
    metavar="N",
    type=click.IntRange(1, 64),
    help="Threads to share the work; as many as there are cores if the input is large.",
)
@click.option(
    "--part",
    metavar="K/N",
    help="Only the Kth of N shares of the files, into a folder for `mukret merge`.",
)
@click.option(
    "--on",
    "engine",
    type=click.Choice(["spark"]),
    help="Let a cluster do the work: Apache Spark.",
)
@click.option(
    "--master",
    metavar="URL",
    help="With --on spark: the cluster, as Spark calls it (local[4], spark://HOST:7077, yarn).",
)
@newest_option
@json_option
@output_options
@handled
def command() -> None:
    """Extract the tables of RULES from every FILE (a file, a folder, a glob, or - for standard
    input).

    A folder gets one file per table (xlsx: one workbook), rejects.jsonl with every row that was set
    aside and why, and run.json with what was read and counted; beside CSV also csv-metadata.json
    with types and keys. A database gets the tables, mukret_rejects and mukret_runs. All of it
    appears at once or not at all.

    With --to - --table T one table goes to standard output; --to - --format json gives all tables
    as one object. Exit code 0: clean; 1: done, with rejects.
    """
