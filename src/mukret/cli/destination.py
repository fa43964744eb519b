"""What was typed of a destination → the destination; what makes no sense is refused with what to type instead."""

from __future__ import annotations

import os
import sys
from typing import TYPE_CHECKING

from mukret.cli.options import known_table
from mukret.errors import UsageError
from mukret.text import did_you_mean

if TYPE_CHECKING:
    from mukret.destinations.contract import Destination, Options
    from mukret.destinations.formats import Format
    from mukret.rules import Rules

_TYPED = {
    "titles": "--titles",
    "nested": "--nested",
    "indent": "--indent",
    "formulas_as_text": "--formulas-as-text",
}


def chosen_format(target: str, name: str, options: Options) -> Format:
    """The format, which must take the options. Raises UsageError."""
    from mukret.destinations.formats import FORMATS

    scheme, separator, _ = target.partition("://")
    if separator:
        raise UsageError("not-supported", f"--to {scheme}://… is not supported yet", hint="name a folder, or -")
    stem, dot, ending = os.path.basename(target.rstrip("/")).rpartition(".")
    if dot and ending.lower() in FORMATS and not os.path.isdir(target):
        hint = f"--to {stem or 'tables'} for a folder with the files; --to - --table T > {target} for one table"
        raise UsageError("usage", f"--to {target}: DEST is a folder, and that is the name of a file", hint=hint)
    if name not in FORMATS:
        raise UsageError("usage", f"no format {name}", hint=did_you_mean(name, FORMATS))
    form = FORMATS[name]
    for option in sorted(options.given - form.options):
        takers = " and ".join(other.name for other in FORMATS.values() if option in other.options)
        raise UsageError("usage", f"{_TYPED[option]} is for {takers}, not for {name}", hint="leave it out")
    return form


def destination_for(target: str, form: Format, table: str | None, rules: Rules) -> Destination:
    """A folder, or standard output. Raises UsageError."""
    from mukret.destinations.folder import Folder
    from mukret.destinations.stream import Stream

    if target != "-":
        return Folder(target, form.name)
    if not form.streams:
        raise UsageError("usage", f"{form.name} is no stream", hint=f"--format {form.name} --to FOLDER")
    if form.binary and sys.stdout.isatty():
        raise UsageError("usage", f"{form.name} is nothing for a terminal", hint="> FILE, or a pipe")
    if table is None and form.payload and sum(bool(one.columns) for one in rules.tables.values()) > 1:
        return Stream(sys.stdout.buffer, form.name)
    return Stream(sys.stdout.buffer, form.name, known_table(rules, table).name)
