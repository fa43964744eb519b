"""A folder of files: the tables in some format, the rejects, and the record of the run."""

from __future__ import annotations

import json
import shutil
from collections.abc import Sequence
from contextlib import ExitStack
from typing import BinaryIO

from mukret.codes import Code
from mukret.destinations.contract import PLAIN, Delivery, RowsToWrite
from mukret.destinations.formats import FORMATS, Writer
from mukret.destinations.growing import Before, columns_of
from mukret.destinations.publish import RUN_FILE, Publication
from mukret.errors import OutputError
from mukret.semantics.rejects import Reject
from mukret.values import JsonValue

REJECTS_FILE = "rejects.jsonl"


class Folder:
    """Appears whole or not at all.

    `append`: beside what earlier runs wrote into it, if there is anything.
    """

    def __init__(self, target: str, form: str = "csv", *, append: bool = False) -> None:
        self.target = target
        self.append = append
        self.before: Before | None = None
        self.format = FORMATS[form]
        self.linked = False
        self.options = PLAIN
        self.publication: Publication | None = None
        self.writer: Writer | None = None
        self.files: list[str] = []
        # The tables of which rows have come.
        self.filled: set[str] = set()
        self.opened = ExitStack()

    @property
    def outcome(self) -> str:
        published = self.publication is not None and self.publication.done
        return f"{self.target} was published" if published else "nothing was published"

    def open(self, delivery: Delivery) -> None:
        self.options = delivery.options
        self.linked = self.options.nested
        self.publication = Publication(self.target)
        self.publication.begin()
        self.columns = columns_of(delivery)
        kept: list[str] = []
        if self.append and (self.publication.place / RUN_FILE).exists():
            self.before = Before(self.publication.place)
            self.before.refuse_differences(self.target, self.format.name, self.columns)
            kept = self.before.keep(self.publication.work, {REJECTS_FILE, RUN_FILE})
        self.writer = self.format.open(delivery, self.new_file)
        self.files = [*kept, *self.files]
        rejects = self.publication.work / REJECTS_FILE
        self.rejects = self.opened.enter_context(open(rejects, "wb"))  # noqa: SIM115
        if self.before is not None:
            with open(self.before.place / REJECTS_FILE, "rb") as earlier:
                shutil.copyfileobj(earlier, self.rejects)

    def new_file(self, name: str) -> BinaryIO:
        """Raises OutputError for a table whose file would be one of those that stand beside the
        tables.
        """
        assert self.publication is not None
        if name.lower() in (REJECTS_FILE, RUN_FILE):
            told = {
                REJECTS_FILE: "what was rejected",
                RUN_FILE: "the record of the run",
            }[name.lower()]
            hint = "rename the table, or choose another --format"
            raise OutputError(
                Code.NOT_HELD, f"a table in {name}: that file is for {told}", hint=hint
            )
        # Files of an earlier run stay as they are: those of this one get its number.
        if self.before is not None:
            stem, dot, ending = name.rpartition(".")
            name = f"{stem}.{self.before.number}{dot}{ending}"
        self.files.append(name)
        return self.opened.enter_context(open(self.publication.work / name, "wb"))

    def leave_out_empty(self) -> None:
        """Takes away the files of tables of which no rows have come: they have one already."""
        assert self.publication is not None and self.before is not None
        for table in self.columns.keys() - self.filled:
            name = f"{table}.{self.before.number}.{self.format.name}"
            if name in self.files and table in self.before.record.get("columns", {}):
                self.files.remove(name)
                (self.publication.work / name).unlink()

    def taken(self) -> set[str]:
        return self.before.taken if self.before is not None else set()

    def write(self, rows: RowsToWrite) -> None:
        assert self.writer is not None
        self.filled |= {name for name, batch in rows.tables.items() if batch.num_rows}
        self.writer.write(rows)

    def set_aside(self, rejects: Sequence[Reject]) -> None:
        assert self.writer is not None
        self.rejects.writelines(reject.line() + b"\n" for reject in rejects)
        self.writer.set_aside(rejects)

    def publish(self, record: dict[str, JsonValue]) -> None:
        assert self.publication is not None and self.writer is not None
        self.writer.close()
        self.opened.close()
        beside = self.writer.beside()
        if self.before is not None:
            self.leave_out_empty()
            # Of a folder that grows the record counts all runs together.
            record.update(self.before.plus(record))
        record.update(format=self.format.name)
        for name in ("nested", "formulas_as_text"):
            if getattr(self.options, name):
                record[name] = True
        record["files"] = [*self.files, *beside, REJECTS_FILE, RUN_FILE]
        for name, content in {**beside, RUN_FILE: record}.items():
            text = json.dumps(content, indent=2, ensure_ascii=False) + "\n"
            (self.publication.work / name).write_text(text, encoding="utf-8")
        # Looked at as late as can be: what the other run added would be lost.
        if self.before is not None and not self.before.unchanged:
            hint = "the same command again adds to what is there now"
            raise OutputError(
                Code.IN_USE,
                f"{self.target}: another run has changed it meanwhile",
                hint=hint,
            )
        self.publication.publish()
        self.publication.close()

    def abort(self) -> None:
        if self.writer is not None:
            self.writer.abandon()
        self.opened.close()
        if self.publication is not None:
            self.publication.close()
