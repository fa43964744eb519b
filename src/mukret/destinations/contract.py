"""What a destination is: where the tables of a run go, opened before the first row, and published
whole at the end.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Protocol

from mukret.rules.model import Rules
from mukret.semantics.rejects import Reject
from mukret.values import JsonValue

if TYPE_CHECKING:
    import pyarrow as pa


@dataclass(frozen=True)
class WriteOptions:
    """How tables are written, as far as a format lets one choose.

    `titles`: these head the columns, and not the names; `nested`: the rows of tables within stand
    in the records of their parents; `indent`: by so many blanks a level.
    """

    titles: bool = False
    nested: bool = False
    indent: int | None = None
    formulas_as_text: bool = False

    @property
    def given(self) -> set[str]:
        """The names of those that were chosen."""
        return {
            name for name, value in vars(self).items() if value not in (False, None)
        }


PLAIN = WriteOptions()


@dataclass(frozen=True)
class Delivery:
    """What is to be written: the tables of the rules that have columns, in their order, with their
    Arrow schemas. `streaming`: into a stream that is read as it comes, and from its beginning to
    its end.
    """

    rules: Rules
    schemas: Mapping[str, pa.Schema]
    options: WriteOptions = PLAIN
    streaming: bool = False


@dataclass
class RowsToWrite:
    """Rows of the tables that come together, as record batches.

    `above` is there where a destination wants it (`linked`): for each row of a table the number of
    the row that it stands in, among those of the nearest table above that is written.
    """

    tables: Mapping[str, pa.RecordBatch]
    above: Mapping[str, Sequence[int]] = field(default_factory=dict)


class Destination(Protocol):
    """Called in this order: `open`, then `write` and `set_aside` while rows come, then `publish`;
    `abort` after an error in any of them, whatever was done before. Errors are OutputError, or
    OSError, which is told as one.
    """

    @property
    def target(self) -> str:
        """How it is called in messages."""

    @property
    def linked(self) -> bool:
        """Whether rows must come with the number of the row that they stand in."""

    @property
    def outcome(self) -> str:
        """What has become of the output so far, in words."""

    def open(self, delivery: Delivery) -> None:
        """Makes ready; refuses what can't be written before anything is read."""

    def taken(self) -> set[str]:
        """The SHA-256 of the inputs whose content is in it already; after `open`."""

    def write(self, rows: RowsToWrite) -> None:
        """Adds rows.

        This and `set_aside` are called in a thread of their own, one call after the other.
        """

    def set_aside(self, rejects: Sequence[Reject]) -> None:
        """Adds rows and documents that were rejected."""

    def publish(self, record: dict[str, JsonValue]) -> None:
        """Makes all of it visible at once, with the record of the run, to which it adds what it
        wrote (`files`).
        """

    def abort(self) -> None:
        """Leaves everything as it was before; does nothing after `publish`."""
