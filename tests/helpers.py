"""What several tests need: the built program, files in a temporary folder, rules as text."""

from __future__ import annotations

import fcntl
import io
import os
import shutil
import subprocess
import sys
import tempfile
import textwrap
import unittest
import warnings
from collections.abc import Iterator, Mapping
from contextlib import (
    chdir,
    contextmanager,
    nullcontext,
    redirect_stderr,
    redirect_stdout,
)
from functools import cache
from multiprocessing.util import Finalize
from pathlib import Path
from typing import Any
from unittest import mock

from mukret.cli.main import answer
from mukret.engine.interface import Result
from mukret.engine.interface import extract as extract_files
from mukret.paths import parse_path
from mukret.rules import parse_rules
from mukret.scan import Cells, Scan
from mukret.scan.program import CellEnd, Route, RowEnd, TableShape, compiled
from mukret.values import JsonValue, json_text


def cells_of(values: list[JsonValue]) -> Cells:
    """The cells of some values, scanned out of one array."""
    program = compiled(
        [TableShape(0, 0), TableShape(0, 1)],
        [Route(0, parse_path("$[*]").segments, RowEnd(1)), Route(1, (), CellEnd(1, 0))],
    )
    text = json_text(values).encode()
    scan = Scan(program, text)
    assert scan.document(0, len(text)), text
    return Cells(text, *scan.column(1, 0), scan.count(1))


class FolderCase(unittest.TestCase):
    """A test with a temporary folder of its own."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def file(self, name: str, content: str | bytes) -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content.encode() if isinstance(content, str) else content)
        return path

    def demo(self) -> None:
        """Puts into the folder what `mukret demo` leaves in it."""
        shutil.copytree(_demo(), self.folder, dirs_exist_ok=True)

    def extract(
        self, rules: str, *documents: str | bytes, name: str = "feed.json"
    ) -> Result:
        """Extracts documents, each a file of its own, by rules given as (indented) text."""
        files = [
            self.file(f"{number}-{name}", text) for number, text in enumerate(documents)
        ]
        return extract_files(parse_rules(rules_text(rules)), files)

    def mukret(
        self, *arguments: str | Path, **options: Any
    ) -> subprocess.CompletedProcess[str]:
        """Runs the built program in the folder; not a terminal, 100 columns wide."""
        return run_mukret(*arguments, folder=self.folder, **options)

    def typed(
        self, *arguments: str | Path, columns: int = 100
    ) -> subprocess.CompletedProcess[str]:
        """The same, without a process of its own: for what is said and how it ends."""
        out, err = (io.TextIOWrapper(io.BytesIO(), "utf-8") for _ in "12")
        with (
            # What another test left open is told whenever it is cleared away, and not here.
            warnings.catch_warnings(action="ignore"),
            chdir(self.folder),
            mock.patch.dict(os.environ, {"COLUMNS": str(columns)}),
            mock.patch("sys.stdin", io.TextIOWrapper(io.BytesIO())),
            redirect_stdout(out),
            redirect_stderr(err),
        ):
            code = answer([str(argument) for argument in arguments])
        out.seek(0)
        err.seek(0)
        return subprocess.CompletedProcess(arguments, code, out.read(), err.read())


@contextmanager
def demo_port() -> Iterator[None]:
    """The port of the demo's service, which one test at a time can have, of whatever process."""
    with open(Path(tempfile.gettempdir()) / "mukret-tests.port", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


@cache
def _demo() -> Path:
    """A folder with what the demo leaves behind, made once in a process."""
    holder = tempfile.TemporaryDirectory()
    Finalize(
        None, holder.cleanup, exitpriority=0
    )  # at the end of a worker process, too
    run_mukret("demo", folder=Path(holder.name))
    return Path(holder.name)


def run_mukret(
    *arguments: str | Path,
    folder: Path,
    stdin: str | None = None,
    columns: int = 100,
    variables: Mapping[str, str] | None = None,
    timeout: int = 120,
) -> subprocess.CompletedProcess[str]:
    environment = {**os.environ, "COLUMNS": str(columns)}
    environment.pop("PYTHONPATH", None)
    environment.update(variables or {})
    with demo_port() if arguments[:1] == ("demo",) else nullcontext():
        return subprocess.run(
            [sys.executable, "-m", "mukret", *map(str, arguments)],
            cwd=folder,
            env=environment,
            input=stdin,
            stdin=subprocess.DEVNULL if stdin is None else None,
            capture_output=True,
            text=True,
            encoding="utf-8",
            timeout=timeout,
            check=False,  # the exit code is what is looked at
        )


def rules_text(text: str) -> str:
    """Rules with their version put first, if they have none."""
    text = textwrap.dedent(text).lstrip("\n")
    return text if text.startswith("mukret:") else f"mukret: 1\n{text}"


def table_rules(fields: str, rows: str = "$[*]", more: str = "") -> str:
    """Rules with one table `t`, its fields written in braces."""
    return f'mukret: 1\n{more}\ntables:\n  t:\n    rows: "{rows}"\n    fields: {{{fields}}}\n'
