"""A draft of rules: what will be written, with the words that explain it."""

from __future__ import annotations

from dataclasses import dataclass, field

from mukret.values import JsonValue


@dataclass
class DraftField:
    """`source` says where the value is from (`at`, `fact`, `lookup`), `reading` how it is read.

    `comment` stands behind it.
    """

    name: str
    source: dict[str, JsonValue]
    reading: dict[str, JsonValue] = field(default_factory=dict)
    required: bool = False
    odd: int = 0
    """So many values do not fit: their rows are rejected."""
    note: str | None = None
    comment: str | None = None
    refers_to: str | None = None
    """The key, as TABLE.FIELD, whose values it has."""
    proposed: str | None = None
    """A line that could follow it, as it would be written."""

    @property
    def type(self) -> JsonValue:
        return self.reading.get("type", "text")

    @property
    def remarks(self) -> str | None:
        """All that stands behind it."""
        told = [f"is {self.refers_to}" if self.refers_to else None, self.comment]
        return "; ".join(filter(None, told)) or None

    def remark(self, text: str) -> None:
        self.comment = f"{self.comment}; {text}" if self.comment else text


@dataclass
class DraftTable:
    name: str
    rows: JsonValue
    within: DraftTable | None = None
    options: dict[str, JsonValue] = field(default_factory=dict)
    """`spread`, `header`, `recurse`, `when`."""
    key: list[str] = field(default_factory=list)
    inherit: list[str] = field(default_factory=list)
    fields: list[DraftField] = field(default_factory=list)
    comment: str | None = None
    joined_by: list[str] = field(default_factory=list)
    """Fields that tell the rows apart for tables within, where there is no key."""

    @property
    def handed_down(self) -> list[str]:
        """What tables within inherit."""
        return self.key or self.joined_by

    def names(self) -> set[str]:
        return {own_field.name for own_field in self.fields} | set(self.inherit)

    def field(self, name: str) -> DraftField | None:
        return next(
            (own_field for own_field in self.fields if own_field.name == name), None
        )


@dataclass
class Draft:
    """`ignored` are paths that no rule reads, each with a word on what stands there.

    `enums` by name: their values.
    """

    title: str
    response: list[DraftField] = field(default_factory=list)
    tables: list[DraftTable] = field(default_factory=list)
    enums: dict[str, tuple[str, ...]] = field(default_factory=dict)
    accepted: dict[str, dict[str, list[str]]] = field(default_factory=dict)
    """Of an enum whose words stand otherwise in the responses: what stands for each."""
    kinds: dict[str, str] = field(default_factory=dict)
    """Kinds of documents by name: the condition that tells each."""
    ignored: dict[str, str] = field(default_factory=dict)
    embedded: tuple[str, ...] = ()
    """Paths of texts that hold JSON, outer ones first."""
    bad_documents: int = 0
    rejected: int = 0
    """Rows that are rejected all the same."""
    unread_texts: int = 0
    """Rows and documents with a text that was taken for JSON and is none."""

    def table(self, name: str) -> DraftTable:
        return next(table for table in self.tables if table.name == name)
