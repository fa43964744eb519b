"""What is said of the input of a run."""

from __future__ import annotations

from collections.abc import Sequence

import click

from mukret.documents import Source
from mukret.text import counted


def print_earlier_answers(sources: Sequence[Source]) -> None:
    """Says which of the answers that were read belong to addresses that were asked again since."""
    # Days alone: when the answers came to the minute is in capture.jsonl.
    times = [
        source.origin.fetched_at or ""
        for source in sources
        if source.origin and source.origin.superseded
    ]
    if not times:
        return
    answers = counted(len(times), "earlier answer") + _days(
        min(times)[:10], max(times)[:10]
    )
    click.echo(
        f"read too: {answers}, of addresses that were asked again since (--newest leaves them out)",
        err=True,
    )


def _days(first: str, last: str) -> str:
    if not first:
        return ""
    return f" of {first}" if first == last else f" of {first} to {last}"
