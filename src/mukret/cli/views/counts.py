"""What became of rows and documents: the counts of each table, and why rows were rejected."""

from __future__ import annotations

import shutil
from collections import defaultdict
from collections.abc import Mapping, Sequence

import click

from mukret.cli.views.screen import cell_width, print_table, readable
from mukret.documents import BadDocument, Diagnosis
from mukret.semantics.rejects import PARENT_REJECTED
from mukret.semantics.tally import Reason, Tally
from mukret.text import counted, escaped
from mukret.values import shown_text

MOST_REASONS = 6
MOST_BAD = 5
_ALWAYS = (
    ("seen", "rows_seen"),
    ("written", "rows_written"),
    ("rejected", "rows_rejected"),
)
_SOMETIMES = (
    ("filtered", "rows_filtered"),
    ("deduplicated", "rows_deduplicated"),
    ("values nulled", "values_nulled"),
)


def print_counts(tally: Tally) -> None:
    """The tally as a table; kinds of counts that are zero everywhere are left out."""
    tables = tally.tables.values()
    kinds = list(_ALWAYS)
    for label, name in _SOMETIMES:
        # Most runs have none of them, and the table has to fit into 80 columns.
        if any(getattr(table, name) for table in tables):
            kinds.append((label, name))
    rows = [["table", *(label for label, _ in kinds)]]
    for table_name, table in tally.tables.items():
        rows.append([table_name, *(f"{getattr(table, name):,}" for _, name in kinds)])
    print_table(rows, right=range(1, len(rows[0])))


def print_reasons(
    tally: Tally, where: str | None, parents: Mapping[str, str | None]
) -> None:
    """Why rows were rejected, the most frequent first, each with its first case; and what went with
    rows above it.

    `where`: the file or table with all rejects, if there is one. `parents`: the table that each
    table is within.
    """
    if not tally.findings:
        return
    what = (
        [f"{counted(tally.rows_rejected, 'row')} rejected"]
        if tally.rows_rejected
        else []
    )
    if tally.bad_documents:
        what.append(f"{counted(tally.bad_documents, 'document')} not readable")
    click.secho(" and ".join(what), fg="yellow", bold=True, nl=False, err=True)
    click.echo(f", every reason in {where}:" if where else ":", err=True)
    reasons = sorted(tally.reasons.values(), key=lambda reason: -reason.count)
    _print_causes([reason for reason in reasons if reason.code != PARENT_REJECTED])
    # A rejected parent takes hundreds along: its reason is what is to be mended.
    followers = [reason for reason in reasons if reason.code == PARENT_REJECTED]
    _print_followers(followers, tally, parents)


def _print_causes(causes: Sequence[Reason]) -> None:
    width = shutil.get_terminal_size((100, 30)).columns
    for reason in causes[:MOST_REASONS]:
        first, *rest = reason_lines(reason, width)
        click.echo(f"  {first}", err=True)
        for line in rest:
            click.secho(f"  {line}", dim=True, err=True)
    # The rest stands in rejects: a screen shows what is most.
    if len(causes) > MOST_REASONS:
        click.echo(
            f"  … and {len(causes) - MOST_REASONS} more kinds of reasons", err=True
        )


def _print_followers(
    followers: Sequence[Reason], tally: Tally, parents: Mapping[str, str | None]
) -> None:
    """How many rows of each table were rejected with the rows above them."""
    below: defaultdict[str, list[str]] = defaultdict(list)
    for reason in followers:
        if reason.table:
            # A table that recurses may be within none: its rows stand in rows of its own.
            above = parents.get(reason.table) or reason.table
            below[above].append(f"{reason.count:,} {reason.table}")
    for above, rows in below.items():
        rejected = counted(tally.tables[above].rows_rejected, "row")
        taken = ", ".join(rows)
        line = f"  {rejected} of {above} rejected took with them {taken} [{PARENT_REJECTED}]"
        click.echo(line, err=True)


def reason_lines(reason: Reason, width: int) -> list[str]:
    """`sailings.fare: 12 × not-a-number, e.g. "ask crew"`, and below where the first case stood."""
    example = reason.example
    # A document that could not be read has no rows or fields to name.
    if example.finding:
        return bad_document_lines(reason)
    what = ".".join(filter(None, (reason.table, reason.field))) or "document"
    shown = f", e.g. {shown_text(example.value)}" if example.value is not None else ""
    place = f"({reason.file}, document {reason.document})"
    path = f"at {readable(example.path)} " if example.path else ""
    lines = [f"{what}: {reason.count:,} × {reason.code}{shown}"]
    # Neither is cut: they are there to be pasted.
    if len(path) + len(place) + 6 <= width:
        lines.append(f"    {path}{place}")
    else:
        lines += [f"    {path}", f"    {place}"]
    return [escaped(line.rstrip()) for line in lines]


def bad_document_lines(reason: Reason) -> list[str]:
    """`document: 2 × nothing-read: no rule reads anything in it …`, and below what there is of the
    first, and where.
    """
    example, finding = reason.example, reason.example.finding
    told = str(finding) if finding else example.message
    lines = [f"document: {reason.count:,} × {reason.code}: {told}"]
    # The bytes around the place say more than the value, which there may not be.
    if finding is not None and finding.excerpt.strip():
        lines += _excerpt_lines(finding)
    elif example.value is not None:
        lines.append(f"    {shown_text(example.value)}")
    lines.append(f"    in {reason.file}, document {reason.document}")
    if example.hint:
        lines.append(f"    hint: {example.hint}")
    return [escaped(line) for line in lines]


def _excerpt_lines(finding: Diagnosis) -> list[str]:
    """The text around a mistake with a caret below it; nothing where there is no text."""
    if not finding.excerpt.strip():
        return []
    before = cell_width(finding.excerpt[: finding.caret])
    return [f"    {finding.excerpt}", f"    {' ' * before}^"]


def print_bad_documents(bad: Sequence[BadDocument], count: int) -> None:
    """The first documents that could not be read, each with its place and a caret; `count` is how
    many there are.
    """
    if not count:
        return
    click.secho(
        f"{counted(count, 'document')} could not be read:", fg="yellow", err=True
    )
    for document in bad[:MOST_BAD]:
        name = f"{document.source.name}, document {document.number}"
        for line in (
            f"  {name}: {document.finding}",
            *_excerpt_lines(document.finding),
        ):
            click.echo(escaped(line), err=True)
    if count > MOST_BAD:
        click.echo(f"  … and {count - MOST_BAD:,} more", err=True)
