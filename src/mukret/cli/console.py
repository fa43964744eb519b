"""How things are printed: diagnostics with a caret, counts as a table, reasons of rejects."""

from __future__ import annotations

import shlex
import shutil
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

import click

from mukret.errors import Diagnostic, RulesError
from mukret.text import counted, escaped
from mukret.values import shown_text

if TYPE_CHECKING:
    from rich.console import Console

    from mukret.documents import BadDocument, Finding
    from mukret.errors import Notice
    from mukret.semantics.tally import Reason, Tally

MOST_REASONS = 6
MOST_BAD = 5
MOST_NOTICES = 20
_WINDOW = 100


def screen() -> Console:
    """Where rich draws.

    A reader that has seen enough is no error here either: rich would end the program with 1.
    """
    from rich.console import Console

    class Screen(Console):
        def on_broken_pipe(self) -> None:
            raise BrokenPipeError

    return Screen(highlight=False, soft_wrap=False)


def print_diagnostics(error: RulesError) -> None:
    """Every problem of a rules file: what, where, the line with a caret, and a hint."""
    for diagnostic in error.diagnostics:
        print_diagnostic(diagnostic)
    count = len(error.diagnostics)
    click.echo(f"{error.file}: {counted(count, 'problem')}; no input was opened", err=True)


def print_diagnostic(diagnostic: Diagnostic, *, err: bool = True) -> None:
    colour = "red" if diagnostic.severity == "error" else "yellow"
    click.secho(f"{diagnostic.severity}: ", fg=colour, bold=True, nl=False, err=err)
    click.echo(f"{escaped(diagnostic.message)} [{diagnostic.code}]", err=err)
    click.echo(f"  at {diagnostic.file}:{diagnostic.line}:{diagnostic.column}", err=err)
    line, caret = windowed(diagnostic.source, diagnostic.column - 1)
    if line.strip():
        number = str(diagnostic.line)
        click.secho(f"    {number} │ ", dim=True, nl=False, err=err)
        click.echo(line, err=err)
        click.secho(f"    {' ' * len(number)} │ ", dim=True, nl=False, err=err)
        click.secho(f"{' ' * caret}^", fg=colour, bold=True, err=err)
    if diagnostic.hint:
        click.secho("  hint: ", fg="cyan", nl=False, err=err)
        click.echo(escaped(diagnostic.hint), err=err)
    click.echo(err=err)


def windowed(source: str, caret: int) -> tuple[str, int]:
    """The part of a line around a place, control characters escaped, and how many columns stand
    before the place.
    """
    first = max(0, caret - _WINDOW // 2) if len(source) > _WINDOW else 0
    before = ("…" if first else "") + escaped(source[first:caret])
    after = source[caret : first + _WINDOW]
    return before + escaped(after) + ("…" if caret + len(after) < len(source) else ""), cell_width(
        before
    )


def _padded(cell: str, width: int, *, right: bool) -> str:
    blank = " " * (width - cell_width(cell))
    return blank + cell if right else cell + blank


def columns(rows: Sequence[Sequence[str]], *, right: Iterable[int] = ()) -> list[str]:
    """Rows of texts as aligned lines."""
    aligned_right = set(right)
    widths = [max(cell_width(row[index]) for row in rows) for index in range(len(rows[0]))]
    return [
        "  ".join(
            _padded(cell, width, right=index in aligned_right)
            for index, (cell, width) in enumerate(zip(row, widths, strict=True))
        ).rstrip()
        for row in rows
    ]


def print_counts(tally: Tally, written: str = "written") -> None:
    """The tally as a table; kinds of counts that are zero everywhere are left out."""
    kinds = [("seen", "rows_seen"), (written, "rows_written"), ("rejected", "rows_rejected")]
    kinds += [
        (label, name)
        for label, name in (
            ("filtered", "rows_filtered"),
            ("deduplicated", "rows_deduplicated"),
            ("values nulled", "values_nulled"),
        )
        if any(getattr(table, name) for table in tally.tables.values())
    ]
    rows = [["table", *(label for label, _ in kinds)]]
    for table_name, table in tally.tables.items():
        rows.append([table_name, *(f"{getattr(table, name):,}" for _, name in kinds)])
    header, *lines = columns(rows, right=range(1, len(rows[0])))
    click.secho(f"  {header}", dim=True, err=True)
    for line in lines:
        click.echo(f"  {line}", err=True)


def print_reasons(tally: Tally, where: str | None, parents: Mapping[str, str | None]) -> None:
    """Why rows were rejected, the most frequent first, each with its first case; and what went with
    rows above it.

    `parents`: the table that each table is within.
    """
    from mukret.semantics.rejects import PARENT_REJECTED

    if not tally.findings:
        return
    what = [f"{counted(tally.rows_rejected, 'row')} rejected"] if tally.rows_rejected else []
    if tally.bad_documents:
        what.append(f"{counted(tally.bad_documents, 'document')} not readable")
    click.secho(f"{' and '.join(what)}", fg="yellow", bold=True, nl=False, err=True)
    click.echo(f", every reason in {where}:" if where else ":", err=True)
    reasons = sorted(tally.reasons.values(), key=lambda reason: -reason.count)
    causes = [reason for reason in reasons if reason.code != PARENT_REJECTED]
    width = shutil.get_terminal_size((100, 30)).columns
    for reason in causes[:MOST_REASONS]:
        first, *rest = reason_lines(reason, width)
        click.echo(f"  {first}", err=True)
        for line in rest:
            click.secho(f"  {line}", dim=True, err=True)
    if len(causes) > MOST_REASONS:
        click.echo(f"  … and {len(causes) - MOST_REASONS} more kinds of reasons", err=True)
    followers: dict[str, list[str]] = {}
    for reason in reasons:
        if reason.code == PARENT_REJECTED and reason.table:
            above = parents.get(reason.table) or reason.table  # a table that recurses may have none
            followers.setdefault(above, []).append(f"{reason.count:,} {reason.table}")
    for above, below in followers.items():
        rejected = counted(tally.tables[above].rows_rejected, "row")
        click.echo(
            f"  {rejected} of {above} rejected took with them {', '.join(below)} "
            f"[{PARENT_REJECTED}]",
            err=True,
        )


def finding_lines(finding: Finding) -> list[str]:
    """The text around a mistake with a caret below it; nothing where there is no text."""
    if not finding.excerpt.strip():
        return []
    return [f"    {finding.excerpt}", f"    {' ' * cell_width(finding.excerpt[: finding.caret])}^"]


def cell_width(text: str) -> int:
    """How many columns of a terminal a text takes; wide characters take two."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


def reason_lines(reason: Reason, width: int) -> list[str]:
    """`sailings.fare: 12 × not-a-number, e.g. "ask crew"`, and below where the first case stood."""
    what = ".".join(part for part in (reason.table, reason.field) if part) or "document"
    example = reason.example
    shown = f", e.g. {shown_text(example.value)}" if example.value is not None else ""
    place = f"({reason.file}, document {reason.document})"
    path = f"at {readable(example.path)} " if example.path else ""
    if example.finding:
        return bad_document_lines(reason)
    lines = [f"{what}: {reason.count:,} × {reason.code}{shown}"]
    lines += (
        [f"    {path}{place}"]
        if len(path) + len(place) + 6 <= width
        else [f"    {path}", f"    {place}"]
    )
    return [escaped(line.rstrip()) for line in lines]


def bad_document_lines(reason: Reason) -> list[str]:
    """`document: 2 × nothing-read: no rule reads anything in it …`, and below what there is of the
    first, and where.
    """
    example, finding = reason.example, reason.example.finding
    told = str(finding) if finding else example.message
    lines = [f"document: {reason.count:,} × {reason.code}: {told}"]
    if finding is not None and finding.excerpt.strip():
        lines += finding_lines(finding)
    elif example.value is not None:
        lines.append(f"    {shown_text(example.value)}")
    lines.append(f"    in {reason.file}, document {reason.document}")
    if example.hint:
        lines.append(f"    hint: {example.hint}")
    return [escaped(line) for line in lines]


def readable(normalized_path: str) -> str:
    """A normalized path as a person writes it: `$.sailings[3].fare`;
    still one that can be pasted.
    """
    from mukret.paths import parse_path
    from mukret.paths.locate import path_text

    return path_text(parse_path(normalized_path).segments)


def print_bad_documents(bad: Sequence[BadDocument], count: int) -> None:
    """The first documents that could not be read, each with its place and a caret; `count` is how
    many there are.
    """
    if not count:
        return
    click.secho(f"{counted(count, 'document')} could not be read:", fg="yellow", err=True)
    for found in bad[:MOST_BAD]:
        name = f"{found.source.name}, document {found.number}"
        for line in (f"  {name}: {found.finding}", *finding_lines(found.finding)):
            click.echo(escaped(line), err=True)
    if count > MOST_BAD:
        click.echo(f"  … and {count - MOST_BAD:,} more", err=True)


def print_unmatched(path: str, hint: str | None) -> None:
    """The warning that a path found nothing in all of the input."""
    click.secho("warning: ", fg="yellow", bold=True, nl=False, err=True)
    click.echo(escaped(f"{path} finds nothing in all of the input [unmatched]"), err=True)
    if hint:
        click.secho("  hint: ", fg="cyan", nl=False, err=True)
        click.echo(escaped(hint), err=True)


def next_step(*words: str) -> None:
    """A command to go on with, words quoted so that they can be pasted."""
    click.secho(f"  mukret {shlex.join(words)}", fg="green", err=True)


def print_notices(notices: Sequence[Notice]) -> None:
    """Warnings, each with its place and what to do; of very many the first ones."""
    for notice in notices[:MOST_NOTICES]:
        click.secho("warning: ", fg="yellow", bold=True, nl=False, err=True)
        click.echo(escaped(f"{notice.message} [{notice.code}]"), err=True)
        if notice.place:
            click.echo(f"  at {escaped(notice.place)}", err=True)
        if notice.hint:
            click.secho("  hint: ", fg="cyan", nl=False, err=True)
            click.echo(escaped(notice.hint), err=True)
    more = Counter(notice.code for notice in notices[MOST_NOTICES:])
    if more:
        shown = ", ".join(f"{count:,} × {code}" for code, count in more.most_common())
        click.echo(f"  … and {counted(more.total(), 'more warning')}: {shown}", err=True)
