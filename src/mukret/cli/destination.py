"""What was typed of a destination → the destination; what makes no sense is refused with what to
type instead.
"""

from __future__ import annotations

import os
import sys
from dataclasses import dataclass
from typing import TYPE_CHECKING

from mukret.cli.options import known_table
from mukret.errors import UsageError
from mukret.text import did_you_mean

if TYPE_CHECKING:
    from mukret.destinations.contract import Destination, Options
    from mukret.destinations.formats import Format
    from mukret.rules import Rules

_PLACES = "a folder, -, sqlite:///FILE, or postgresql://HOST/DATABASE"
_TYPED = {
    "titles": "--titles",
    "nested": "--nested",
    "indent": "--indent",
    "formulas_as_text": "--formulas-as-text",
}


@dataclass(frozen=True)
class Typed:
    """What was typed of a destination; None where nothing was."""

    target: str
    form: str | None
    table: str | None
    mode: str | None
    widen: bool
    skip_seen: bool

    @property
    def is_database(self) -> bool:
        return "://" in self.target


def refuse_nonsense(typed: Typed, options: Options) -> None:
    """Raises UsageError, before anything is read."""
    if typed.is_database:
        _refuse_for_a_database(typed, options)
    else:
        _refuse_for_files(typed, options)


def destination_for(typed: Typed, rules: Rules) -> Destination:
    """A database, a folder, or standard output. Raises UsageError."""
    from mukret.destinations.folder import Folder
    from mukret.destinations.formats import FORMATS
    from mukret.destinations.stream import Stream

    if typed.is_database:
        return _database(typed)
    form = FORMATS[typed.form or "csv"]
    if typed.target != "-":
        return Folder(typed.target, form.name, append=typed.mode == "append")
    if not form.streams:
        raise UsageError(
            "usage", f"{form.name} is no stream", hint=f"--format {form.name} --to FOLDER"
        )
    if form.binary and sys.stdout.isatty():
        raise UsageError(
            "usage", f"{form.name} is nothing for a terminal", hint="> FILE, or a pipe"
        )
    if (
        typed.table is None
        and form.payload
        and sum(bool(one.columns) for one in rules.tables.values()) > 1
    ):
        return Stream(sys.stdout.buffer, form.name)
    return Stream(sys.stdout.buffer, form.name, known_table(rules, typed.table).name)


def _database(typed: Typed) -> Destination:
    from mukret.destinations.database import Mode

    mode = Mode(typed.mode) if typed.mode else None
    if typed.target.startswith("sqlite:"):
        from mukret.destinations.sqlite import Sqlite

        return Sqlite(typed.target, mode, widen=typed.widen)
    from mukret.destinations.postgresql import Postgresql

    return Postgresql(typed.target, mode, widen=typed.widen)


def _refuse_for_a_database(typed: Typed, options: Options) -> None:
    scheme = typed.target.partition("://")[0]
    if scheme not in ("sqlite", "postgresql", "postgres"):
        raise UsageError("not-supported", f"--to {scheme}://… is not supported yet", hint=_PLACES)
    if scheme == "sqlite" and not typed.target.startswith("sqlite:///"):
        raise UsageError(
            "usage",
            f"--to {typed.target}: a file is wanted",
            hint="sqlite:///ferries.db, with three /",
        )
    given = ["--format"] * (typed.form is not None) + [
        _TYPED[name] for name in sorted(options.given)
    ]
    if given:
        raise UsageError(
            "usage", f"{given[0]} is for files, not for a database", hint="leave it out"
        )
    for option, chosen in (("--widen", typed.widen), ("--skip-seen", typed.skip_seen)):
        if chosen and typed.mode not in ("append", "upsert"):
            raise UsageError(
                "usage", f"{option} goes with --mode append or upsert", hint="leave it out"
            )


def _refuse_for_files(typed: Typed, options: Options) -> None:
    from mukret.destinations.formats import FORMATS

    stem, dot, ending = os.path.basename(typed.target.rstrip("/")).rpartition(".")
    if dot and ending.lower() in FORMATS and not os.path.isdir(typed.target):
        hint = (
            f"--to {stem or 'tables'} for a folder with the files; --to - --table T > "
            f"{typed.target} for one table"
        )
        raise UsageError(
            "usage",
            f"--to {typed.target}: DEST is a folder, and that is the name of a file",
            hint=hint,
        )
    name = typed.form or "csv"
    if name not in FORMATS:
        raise UsageError("usage", f"no format {name}", hint=did_you_mean(name, FORMATS))
    _refuse_additions(typed, FORMATS[name])
    for option in sorted(options.given - FORMATS[name].options):
        takers = " and ".join(other.name for other in FORMATS.values() if option in other.options)
        raise UsageError(
            "usage", f"{_TYPED[option]} is for {takers}, not for {name}", hint="leave it out"
        )


def _refuse_additions(typed: Typed, form: Format) -> None:
    """Of what databases do, a folder does only this: files are added to those of earlier runs."""
    from mukret.destinations.formats import FORMATS

    if typed.target == "-" and (typed.mode or typed.skip_seen):
        raise UsageError(
            "usage", "--mode and --skip-seen are for a folder or a database", hint="leave it out"
        )
    if typed.widen or typed.mode in ("create", "upsert"):
        option = "--widen" if typed.widen else f"--mode {typed.mode}"
        raise UsageError("usage", f"{option} is for databases", hint="leave it out")
    if typed.mode == "append" and not form.grows:
        growing = " and ".join(one.name for one in FORMATS.values() if one.grows)
        raise UsageError(
            "usage", f"--mode append is for {growing}, not for {form.name}", hint="leave it out"
        )
    if typed.skip_seen and typed.mode != "append":
        raise UsageError("usage", "--skip-seen goes with --mode append", hint="leave it out")
