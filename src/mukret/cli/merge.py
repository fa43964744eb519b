"""`mukret merge`: parts, extracted on several machines, into one delivery."""

from __future__ import annotations

import json

import click

from mukret.cli import completing
from mukret.cli.delivering import (
    delivery_options,
    headline,
    refuse_twins,
    reject_limit,
    where_rejects_are,
)
from mukret.cli.destination import Typed, destination_for, refuse_nonsense
from mukret.cli.options import examples, json_option, loaded_rules, output_options, set_up_logging


@click.command(
    "merge",
    short_help="Put parts of an extraction together.",
    epilog=examples(
        "mukret merge parts/1 parts/2 --to tables",
        "mukret merge parts/* --to sqlite:///ferries.db",
        note="on parts that `mukret extract … --part 1/2 --to parts/1` writes",
    ),
)
@click.argument(
    "parts", metavar="PART...", nargs=-1, required=True, shell_complete=completing.files
)
@delivery_options
@click.option(
    "--rules",
    metavar="RULES",
    shell_complete=completing.rules_files,
    help=(
        "The rules of the parts, where they are not at the place at which the first part read them."
    ),
)
@json_option
@output_options
@click.pass_context
def command(
    ctx: click.Context,
    parts: tuple[str, ...],
    target: str,
    form: str | None,
    mode: str | None,
    widen: bool,
    table: str | None,
    titles: bool,
    nested: bool,
    indent: int | None,
    formulas_as_text: bool,
    max_rejects: str | None,
    strict: bool,
    rules: str | None,
    as_json: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Merge every PART (a folder that `extract --part` wrote; all of them must be named) into one
    delivery: the tables, rejects and counts that one run over all of the input gives, keys settled
    across all parts.

    Exit code 0: clean; 1: done, with rejects.
    """
    from mukret.cli import console
    from mukret.destinations.contract import Options
    from mukret.destinations.deliver import deliver_extraction
    from mukret.parts.merging import Merge
    from mukret.parts.reading import Part
    from mukret.text import counted

    set_up_logging(log, verbose)
    options = Options(titles, nested, indent, formulas_as_text)
    typed = Typed(target, form, table, mode, widen, skip_seen=False)
    refuse_nonsense(typed, options)
    limit = reject_limit(max_rejects)
    read = [Part(folder) for folder in parts]
    checked = loaded_rules(rules or read[0].record["rules"]["file"])
    merge = Merge(checked, read)
    destination = destination_for(typed, checked)
    if titles:
        refuse_twins(checked)
    record = deliver_extraction(merge.extraction, destination, limit, options)
    notices = merge.notices()
    if as_json:
        click.echo(json.dumps(record, indent=2, ensure_ascii=False))
    elif not quiet:
        documents = sum(told["documents"] for told in record["inputs"])
        told = headline(documents, len(record["inputs"]), target)
        click.echo(f"{counted(len(read), 'part')}: {told}", err=True)
        console.print_counts(merge.tally)
        parents = {name: own.within for name, own in checked.tables.items()}
        console.print_reasons(merge.tally, where_rejects_are(target), parents)
        console.print_notices(notices)
    found = merge.tally.findings and limit is None
    ctx.exit(1 if found or (strict and notices) else 0)
