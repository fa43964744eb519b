"""What differs between two deliveries: the results, as facts;
words are made by whoever shows them.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import msgspec

from mukret.values import JsonValue

# The texts of a row, by column.
Row = Mapping[str, str | None]


@dataclass(frozen=True)
class SampledRows:
    """Rows that one delivery alone has: how many, and the first of them."""

    count: int = 0
    sample: tuple[Row, ...] = ()


@dataclass(frozen=True)
class ChangedValue:
    """A cell that differs, and the key of its row."""

    key: Row
    before: str | None
    after: str | None


@dataclass(frozen=True)
class ChangedField:
    """In how many rows a field differs, and the first of these."""

    count: int
    sample: tuple[ChangedValue, ...] = ()


@dataclass(frozen=True)
class Renamed:
    """A new column that holds what one that is gone held, in this share (0 to 1) of the rows with a
    value in either.
    """

    before: str
    share: float

    def as_json(self) -> dict[str, JsonValue]:
        return {"before": self.before, "share_the_same": round(self.share, 4)}


@dataclass(frozen=True)
class ColumnChanges:
    """Columns by name, with the names of their types; `retyped` has the type before and after."""

    added: Mapping[str, str] = field(default_factory=dict)
    gone: Mapping[str, str] = field(default_factory=dict)
    retyped: Mapping[str, tuple[str, str]] = field(default_factory=dict)
    renamed: Mapping[str, Renamed] = field(default_factory=dict)

    @property
    def any(self) -> bool:
        return bool(self.added or self.gone or self.retyped or self.renamed)

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "added": dict(self.added),
            "gone": dict(self.gone),
            "retyped": {
                name: {"before": old, "after": new}
                for name, (old, new) in self.retyped.items()
            },
            "renamed": {
                name: column.as_json() for name, column in self.renamed.items()
            },
        }


@dataclass(frozen=True)
class TableDifferences:
    """A table of both deliveries.

    `rows`: how many each has; `key`: by which columns rows were told apart, none where whole rows
    were compared; `repeated`: the key that could not be used since it comes more than once.
    """

    rows: tuple[int, int]
    key: tuple[str, ...]
    columns: ColumnChanges
    added: SampledRows = field(default_factory=SampledRows)
    gone: SampledRows = field(default_factory=SampledRows)
    changed_rows: int = 0
    changed: Mapping[str, ChangedField] = field(default_factory=dict)
    repeated: tuple[str, ...] = ()

    @property
    def any(self) -> bool:
        return bool(
            self.columns.any or self.added.count or self.gone.count or self.changed_rows
        )

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "rows": {"before": self.rows[0], "after": self.rows[1]},
            "key": list(self.key),
            "key_repeats": list(self.repeated),
            "columns": self.columns.as_json(),
            "added": msgspec.to_builtins(self.added),
            "gone": msgspec.to_builtins(self.gone),
            "changed": {
                "count": self.changed_rows,
                "fields": msgspec.to_builtins(self.changed),
            },
        }


@dataclass(frozen=True)
class Differences:
    """`tables` are those that both deliveries have; `added` and `gone` those that only one has,
    with their rows.
    """

    tables: Mapping[str, TableDifferences]
    added: tuple[str, ...] = ()
    gone: tuple[str, ...] = ()

    @property
    def any(self) -> bool:
        return bool(
            self.added or self.gone or any(table.any for table in self.tables.values())
        )

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "gone": list(self.gone),
            "added": list(self.added),
            "tables": {name: table.as_json() for name, table in self.tables.items()},
        }
