"""What is said of a part of an extraction."""

from __future__ import annotations

import click

from mukret.cli.views.counts import print_counts
from mukret.cli.views.delivery import headline
from mukret.engine.run import Run
from mukret.parts.shares import Share
from mukret.text import counted


def warn_of_the_time() -> None:
    """Rules that ask what time it is give other values in each part."""
    click.echo(
        "CURRENT_TIMESTAMP is the time of each part: parts extracted at other times differ in it",
        err=True,
    )


def print_part(run: Run, share: Share, files: int, target: str) -> None:
    """`files`: those of all parts."""
    documents = sum(source.documents for source in run.sources)
    click.echo(headline(documents, len(run.sources), target), err=True)
    click.echo(
        f"part {share.number} of {share.of}, of {counted(files, 'file')}", err=True
    )
    print_counts(run.tally)
    click.echo(
        # Counts of a part may still change: a row that is first here may be second in the whole.
        "which keys came before is resolved by `mukret merge PART… --to DEST`",
        err=True,
    )
