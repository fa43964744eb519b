"""A folder that a run wrote: its record says which files hold which table."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from importlib import import_module
from pathlib import Path

import pyarrow as pa

from mukret.codes import Code
from mukret.delivered.contract import (
    Delivered,
    DeliveredReject,
    DeliveredTable,
    recorded_tables,
)
from mukret.destinations.folder import REJECTS_FILE
from mukret.destinations.publish import RUN_FILE
from mukret.documents import decode
from mukret.errors import InputError
from mukret.values import JsonValue

# The texts of a table out of one file; all tables of the delivery are there too.
FileReader = Callable[
    [Path, DeliveredTable, Mapping[str, DeliveredTable]], Iterator[pa.RecordBatch]
]
# By format, a function of this package that is imported when it is called.
READERS = {
    "csv": "files:csv_texts",
    "jsonl": "json_files:line_texts",
    "json": "json_files:array_texts",
    "parquet": "files:parquet_texts",
    "arrow": "files:arrow_texts",
    "xlsx": "workbook:sheet_texts",
}
# The same, for records that stand in those of the tables around them.
NESTED = {
    "jsonl": "json_files:nested_line_texts",
    "json": "json_files:nested_array_texts",
}


class DeliveredFolder(Delivered):
    def __init__(self, target: str) -> None:
        """Raises InputError for what is no folder that a run wrote."""
        self.place = Path(target)
        record = _record(target, self.place / RUN_FILE)
        self.format: str = record["format"]
        if "part" in record:
            hint = "mukret merge PART… --to FOLDER makes a delivery of parts"
            raise InputError(
                Code.NOT_OPENED,
                f"{target} is a part, whose keys are not resolved yet",
                hint=hint,
            )
        if self.format not in READERS:
            hint = "--format parquet is read again"
            raise InputError(
                Code.NOT_OPENED,
                f"{target}: its tables are {self.format}, which is not read here",
                hint=hint,
            )
        self.nested = bool(record.get("nested"))
        self.marked = bool(record.get("formulas_as_text"))
        self.files: list[str] = record["files"]
        # A sheet has floats for all numbers.
        self.exact = self.format != "xlsx"
        super().__init__(target, recorded_tables(record), [record])

    def rejects(self) -> Iterator[DeliveredReject]:
        place = self.place / REJECTS_FILE
        try:
            with open(place, "rb") as lines:
                for line in lines:
                    yield DeliveredReject.of_json(decode(line))
        except OSError as error:
            raise InputError(
                Code.NOT_OPENED, f"{place}: {(error.strerror or str(error)).lower()}"
            ) from None
        # Edited by hand, or cut off while it was copied.
        except (ValueError, KeyError, TypeError):
            raise InputError(
                Code.NOT_OPENED, f"{place}: it is not as the run wrote it"
            ) from None

    def texts(self, table: str) -> Iterator[pa.RecordBatch]:
        wanted = self.tables[table]
        for path in self.paths(table):
            try:
                for batch in self.read(path, wanted):
                    yield _without_marks(batch, wanted) if self.marked else batch
            except (OSError, pa.ArrowException) as error:
                # Arrow's messages go on for several lines about its own parts.
                reason = (
                    getattr(error, "strerror", None) or str(error).partition("\n")[0]
                )
                raise InputError(
                    Code.NOT_OPENED,
                    f"{path}: {reason}",
                    hint="it is not as the run wrote it",
                ) from None

    def read(self, path: Path, wanted: DeliveredTable) -> Iterator[pa.RecordBatch]:
        module, _, name = (NESTED if self.nested else READERS)[self.format].partition(
            ":"
        )
        reader: FileReader = getattr(import_module(f"mukret.delivered.{module}"), name)
        return reader(path, wanted, self.tables)

    def paths(self, table: str) -> list[Path]:
        """The files that hold a table: one for each run that added rows to it."""
        # Nested files hold the rows of tables within in the records above them.
        holder = self.outermost(table) if self.nested else table
        if self.format == "xlsx":
            from mukret.destinations.xlsx import FILE

            return [self.place / FILE]
        return [
            self.place / name
            for name in self.files
            if _stem(name) == holder and name.endswith(f".{self.format}")
        ]

    def outermost(self, table: str) -> str:
        """The table in whose file the records of a nested one stand."""
        within = self.tables[table].within
        return table if within is None else self.outermost(within)


def _without_marks(batch: pa.RecordBatch, table: DeliveredTable) -> pa.RecordBatch:
    """Without what was put before texts that a spreadsheet would take for a formula."""
    from mukret.destinations.csv import without_marks

    arrays = [
        without_marks(batch.column(name), kind) for name, kind in table.columns.items()
    ]
    return pa.record_batch(arrays, names=batch.schema.names)


def _stem(name: str) -> str:
    """The name of the table in the name of a file: `sailings.2.parquet` is the second one of
    sailings, and so may be what stands in the folder `sailings/`.
    """
    return name.partition("/")[0].partition(".")[0]


def _record(target: str, place: Path) -> dict[str, JsonValue]:
    try:
        record: dict[str, JsonValue] = json.loads(place.read_bytes())
        # A record that lacks one of these is no record.
        record["format"], record["files"], record["columns"]
    except FileNotFoundError:
        hint = "name a folder that `mukret extract … --to FOLDER` wrote"
        raise InputError(
            Code.NOT_OPENED,
            f"{target}: no run wrote it, there is no {RUN_FILE}",
            hint=hint,
        ) from None
    except OSError as error:
        raise InputError(
            Code.NOT_OPENED, f"{target}: {(error.strerror or str(error)).lower()}"
        ) from None
    except (ValueError, KeyError, TypeError):
        hint = "extract it again"
        raise InputError(
            Code.NOT_OPENED, f"{place}: that is no record of a run", hint=hint
        ) from None
    return record
