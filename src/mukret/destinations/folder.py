"""A folder of files: the tables in some format, the rejects, and the record of the run."""

from __future__ import annotations

import json
from collections.abc import Sequence
from contextlib import ExitStack
from typing import Any, BinaryIO

from mukret.destinations.contract import Delivery, Rows
from mukret.destinations.formats import FORMATS, Writer
from mukret.destinations.publish import RUN_FILE, Publication
from mukret.engine.rejects import Reject

REJECTS_FILE = "rejects.jsonl"


class Folder:
    """Appears whole or not at all."""

    def __init__(self, target: str, form: str = "csv") -> None:
        self.target = target
        self.format = FORMATS[form]
        self.encodes = self.format.encodes
        self.linked = False
        self.publication: Publication | None = None
        self.writer: Writer | None = None
        self.files: list[str] = []
        self.opened = ExitStack()

    @property
    def outcome(self) -> str:
        published = self.publication is not None and self.publication.done
        return f"{self.target} was published" if published else "nothing was published"

    def open(self, delivery: Delivery) -> None:
        self.linked = delivery.options.nested
        self.encodes = self.format.encodes and not self.linked
        self.publication = Publication(self.target)
        self.writer = self.format.open(delivery, self.new_file)
        self.rejects = self.new_file(REJECTS_FILE)

    def new_file(self, name: str) -> BinaryIO:
        assert self.publication is not None
        self.files.append(name)
        return self.opened.enter_context(open(self.publication.work / name, "wb"))

    def taken(self) -> set[str]:
        return set()

    def encode(self, table: str, batch: Any) -> Any:
        assert self.writer is not None
        return self.writer.encode(table, batch)

    def write(self, rows: Rows) -> None:
        assert self.writer is not None
        self.writer.write(rows)

    def set_aside(self, rejects: Sequence[Reject]) -> None:
        assert self.writer is not None
        self.rejects.writelines(reject.line() + b"\n" for reject in rejects)
        self.writer.set_aside(rejects)

    def publish(self, record: dict[str, Any]) -> None:
        assert self.publication is not None and self.writer is not None
        self.writer.close()
        self.opened.close()
        beside = self.writer.beside()
        names = [name for name in self.files if name != REJECTS_FILE]
        record["files"] = [*names, *beside, REJECTS_FILE, RUN_FILE]
        for name, content in {**beside, RUN_FILE: record}.items():
            text = json.dumps(content, indent=2, ensure_ascii=False) + "\n"
            (self.publication.work / name).write_text(text, encoding="utf-8")
        self.publication.publish()
        self.publication.close()

    def abort(self) -> None:
        if self.writer is not None:
            self.writer.abandon()
        self.opened.close()
        if self.publication is not None:
            self.publication.close()
