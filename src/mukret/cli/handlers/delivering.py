"""What `extract` and `merge` have in common: where tables go, and how they are written.

What makes no sense is refused before anything is read, with what to type instead.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from dataclasses import dataclass

from mukret.cli.handlers.inputs import known_table
from mukret.cli.handlers.request import Talk
from mukret.codes import Code
from mukret.destinations.contract import Destination, WriteOptions
from mukret.destinations.database import Mode
from mukret.destinations.deliver import RejectLimit
from mukret.destinations.folder import Folder
from mukret.destinations.formats import FORMATS, Format
from mukret.destinations.postgresql import Postgresql
from mukret.destinations.sqlite import Sqlite
from mukret.destinations.stream import Stream
from mukret.errors import UsageError
from mukret.rules import Rules
from mukret.text import did_you_mean

_PLACES = "a folder, -, sqlite:///FILE, or postgresql://HOST/DATABASE"
_SCHEMES = ("sqlite", "postgresql", "postgres")
# How each member of Options is typed.
_TYPED = {
    "titles": "--titles",
    "nested": "--nested",
    "indent": "--indent",
    "formulas_as_text": "--formulas-as-text",
}


@dataclass(frozen=True, kw_only=True)
class DeliveryRequest(Talk):
    """What was typed of a delivery; None where nothing was."""

    target: str
    form: str | None
    mode: str | None
    widen: bool
    table: str | None
    titles: bool
    nested: bool
    indent: int | None
    formulas_as_text: bool
    max_rejects: str | None
    strict: bool
    as_json: bool
    skip_seen: bool = False

    @property
    def options(self) -> WriteOptions:
        return WriteOptions(
            self.titles, self.nested, self.indent, self.formulas_as_text
        )

    @property
    def is_database(self) -> bool:
        return "://" in self.target

    @property
    def is_stream(self) -> bool:
        """Whether tables go to standard output."""
        return self.target == "-"

    def refuse_nonsense(self) -> None:
        """Raises UsageError for options that don't go together."""
        if self.is_database:
            _refuse_for_a_database(self)
        else:
            _refuse_for_files(self)

    def reject_limit(self) -> RejectLimit | None:
        """How many rejects are clean. Raises UsageError."""
        return parsed_limit(self.max_rejects)

    def destination(self, rules: Rules) -> Destination:
        """A database, a folder, or standard output. Raises UsageError."""
        if self.titles:
            _refuse_twins(rules)
        if self.is_database:
            return self._database()
        # CSV is what everybody can look at.
        form = FORMATS[self.form or "csv"]
        if self.is_stream:
            return self._stream(form, rules)
        return Folder(self.target, form.name, append=self.mode == "append")

    def _database(self) -> Destination:
        mode = Mode(self.mode) if self.mode else None
        if self.target.startswith("sqlite:"):
            return Sqlite(self.target, mode, widen=self.widen)
        return Postgresql(self.target, mode, widen=self.widen)

    def _stream(self, form: Format, rules: Rules) -> Destination:
        if not form.streams:
            hint = f"--format {form.name} --to FOLDER"
            raise UsageError(Code.USAGE, f"{form.name} is no stream", hint=hint)
        # Its bytes would be taken for commands to the terminal.
        if form.binary and sys.stdout.isatty():
            message = f"{form.name} is nothing for a terminal"
            raise UsageError(Code.USAGE, message, hint="> FILE, or a pipe")
        with_columns = [table for table in rules.tables.values() if table.columns]
        # One object has room for all tables; any other format holds one.
        if self.table is None and form.payload and len(with_columns) > 1:
            return Stream(sys.stdout.buffer, form.name)
        return Stream(sys.stdout.buffer, form.name, known_table(rules, self.table).name)

    def exit_code(self, *, findings: bool, warnings: bool) -> int:
        """1 if there is something to look at: a limit that was kept makes rejects clean, --strict
        makes findings of warnings.
        """
        return (
            1
            if (findings and self.max_rejects is None) or (self.strict and warnings)
            else 0
        )


def parsed_limit(text: str | None) -> RejectLimit | None:
    """What was typed after --max-rejects. Raises UsageError."""
    if text is None:
        return None
    try:
        return RejectLimit.parse(text)
    except ValueError:
        hint = "a number (12) or a share (0.5%)"
        raise UsageError(
            Code.USAGE, f"--max-rejects can't be {text!r}", hint=hint
        ) from None


def _refuse_twins(rules: Rules) -> None:
    """Columns of a table with the same title can't be told apart by it."""
    for table in rules.tables.values():
        # Two names may share a title, since files without titles are the rule.
        by_title: dict[str, str] = {}
        for name, title in table.titles.items():
            other = by_title.setdefault(title, name)
            if other != name:
                message = (
                    f"{table.name}: {other} and {name} would both be headed {title!r}"
                )
                hint = "give one of them another title, or leave out --titles"
                raise UsageError(Code.USAGE, message, hint=hint)


def _refuse_for_a_database(typed: DeliveryRequest) -> None:
    scheme = typed.target.partition("://")[0]
    if scheme not in _SCHEMES:
        raise UsageError(
            Code.NOT_SUPPORTED, f"--to {scheme}://… is not supported yet", hint=_PLACES
        )
    # Two slashes would name a host, and the file would be another one.
    if scheme == "sqlite" and not typed.target.startswith("sqlite:///"):
        hint = "sqlite:///ferries.db, with three /"
        raise UsageError(
            Code.USAGE, f"--to {typed.target}: a file is wanted", hint=hint
        )
    for option in _options_of_files(typed):
        _leave_out(f"{option} is for files, not for a database")
    for option, chosen in (("--widen", typed.widen), ("--skip-seen", typed.skip_seen)):
        if chosen and typed.mode not in ("append", "upsert"):
            _leave_out(f"{option} goes with --mode append or upsert")


def _options_of_files(typed: DeliveryRequest) -> Iterator[str]:
    if typed.form is not None:
        yield "--format"
    for name in sorted(typed.options.given):
        yield _TYPED[name]


def _refuse_for_files(typed: DeliveryRequest) -> None:
    _refuse_name_of_a_file(typed.target)
    name = typed.form or "csv"
    if name not in FORMATS:
        raise UsageError(
            Code.USAGE, f"no format {name}", hint=did_you_mean(name, FORMATS)
        )
    _refuse_additions(typed, FORMATS[name])
    # Refused rather than passed over: what is typed has an effect, or is told.
    for option in sorted(typed.options.given - FORMATS[name].options):
        takers = " and ".join(
            other.name for other in FORMATS.values() if option in other.options
        )
        _leave_out(f"{_TYPED[option]} is for {takers}, not for {name}")


def _refuse_name_of_a_file(target: str) -> None:
    stem, dot, ending = os.path.basename(target.rstrip("/")).rpartition(".")
    if dot and ending.lower() in FORMATS and not os.path.isdir(target):
        message = f"--to {target}: DEST is a folder, and that is the name of a file"
        folder = f"--to {stem or 'tables'} for a folder with the files"
        hint = f"{folder}; --to - --table T > {target} for one table"
        raise UsageError(Code.USAGE, message, hint=hint)


def _refuse_additions(typed: DeliveryRequest, form: Format) -> None:
    """Refuses for a folder what only databases do; a folder can only add files to those of earlier
    runs.
    """
    if typed.is_stream and (typed.mode or typed.skip_seen):
        _leave_out("--mode and --skip-seen are for a folder or a database")
    # A column more would make two kinds of file in one folder, and a file has no keys to replace
    # rows by.
    if typed.widen or typed.mode in ("create", "upsert"):
        option = "--widen" if typed.widen else f"--mode {typed.mode}"
        _leave_out(f"{option} is for databases")
    # Some formats have an end of their own, or are one file for all tables.
    if typed.mode == "append" and not form.grows:
        growing = " and ".join(
            format.name for format in FORMATS.values() if format.grows
        )
        _leave_out(f"--mode append is for {growing}, not for {form.name}")
    if typed.skip_seen and typed.mode != "append":
        _leave_out("--skip-seen goes with --mode append")


def _leave_out(message: str) -> None:
    raise UsageError(Code.USAGE, message, hint="leave it out")
