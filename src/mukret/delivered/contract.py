"""A delivery that is read again: its tables with their columns, and the texts of their cells."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from mukret.types import Text, ValueType, parse_type
from mukret.types.names import TypeNameError, item_name, list_of
from mukret.values import JsonValue

if TYPE_CHECKING:
    import pyarrow as pa


@dataclass(frozen=True)
class DeliveredTable:
    """A table as the record of its run has it.

    `types`: the names of the types, as the rules call them; `rows`: how many were written, None if
    that is not on record.
    """

    name: str
    types: Mapping[str, str]
    key: tuple[str, ...] = ()
    within: str | None = None
    rows: int | None = None

    @property
    def columns(self) -> dict[str, ValueType]:
        """The type of each column, in order."""
        return {name: recorded_type(kind) for name, kind in self.types.items()}


@dataclass(frozen=True)
class DeliveredReject:
    """A row that was rejected, or a document (with `table` None); `rows`: for how many rows it
    stands. Problems have `field`, `code`, `path`, `value` and `message`.
    """

    file: str
    document: int
    path: str | None
    table: str | None
    problems: Sequence[Mapping[str, JsonValue]]
    rows: int = 1

    @classmethod
    def of_json(cls, told: Mapping[str, JsonValue]) -> DeliveredReject:
        place = (told["file"], told["document"], told["path"], told["table"])
        return cls(*place, problems=told["problems"], rows=told.get("rows") or 1)


class Delivered(ABC):
    """Tables of one destination. It is opened for reading alone, and never changed.

    `exact`: whether it keeps all digits of floats, and the empty text apart from null; a workbook
    does neither.
    """

    exact = True

    def __init__(
        self,
        target: str,
        tables: Mapping[str, DeliveredTable],
        records: Sequence[Mapping[str, JsonValue]],
    ) -> None:
        """`records`: of the runs that wrote it, the last one last; there is one at least."""
        self.target = target
        self.tables = tables
        self.records = records

    @abstractmethod
    def texts(self, table: str) -> Iterator[pa.RecordBatch]:
        """The rows of a table as record batches of strings: each cell as it stands in CSV, null
        where it is null.

        Raises InputError where they can't be read.
        """

    @abstractmethod
    def rejects(self) -> Iterator[DeliveredReject]:
        """What was set aside by the runs that are on record.

        Raises InputError where it can't be read.
        """

    def close(self) -> None:  # noqa: B027  # folders hold nothing open
        """Closes what was opened."""


def recorded_type(name: str) -> ValueType:
    """A type by its name in the record of a run.

    Enums, of which the record has the name alone, are read as texts.
    """
    try:
        kind = parse_type(name)
    except TypeNameError:
        return Text()
    if kind is not None:
        return kind
    return Text() if item_name(name) is None else list_of(Text())


def recorded_tables(record: Mapping[str, JsonValue]) -> dict[str, DeliveredTable]:
    """The tables that the record of a run describes.

    Raises KeyError for a record that describes none.
    """
    counts: Mapping[str, Mapping[str, int]] = record.get("tables", {})
    keys: Mapping[str, list[str]] = record.get("keys", {})
    within: Mapping[str, str] = record.get("within", {})
    return {
        name: DeliveredTable(
            name,
            types,
            tuple(keys.get(name, ())),
            within.get(name),
            # Databases have no count in their record: the table may hold rows of many runs.
            counts.get(name, {}).get("rows_written"),
        )
        for name, types in record["columns"].items()
    }
