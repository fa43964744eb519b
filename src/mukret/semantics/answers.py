"""What lookups across the run find: values by key, gathered in a reading of the whole input that
goes before.

In memory while there are few; beyond, in a database on the disk that has no name and goes with the
program, so that memory grows neither with keys nor with values.
"""

from __future__ import annotations

import pickle
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Protocol

from mukret.codes import Code
from mukret.errors import OutputError
from mukret.semantics.outcomes import key_hash

if TYPE_CHECKING:
    import sqlite3

MOST_IN_MEMORY = 200_000
CHUNK = 10_000

# The values of a key, as a lookup compares them.
Form = tuple[object, ...]
# A field by its table and its name.
FieldName = tuple[str, str]


class Known(Protocol):
    """Values by key."""

    def get_all(self, forms: Sequence[Form | None], /) -> list[object]:
        """The value of each key; None where there is none, or no key."""


class Answers:
    """The values that one lookup takes, by the key of the row that it takes them from; of several
    the first counts.
    """

    def __init__(self, most_in_memory: int = MOST_IN_MEMORY) -> None:
        self.most_in_memory = most_in_memory
        self.few: dict[bytes, object] = {}
        self.many: sqlite3.Connection | None = None

    def add(self, rows: Iterable[tuple[Form, object]]) -> None:
        """Adds keys and values in the order of the input.

        Raises OutputError if there is no room on the disk.
        """
        for form, value in rows:
            self.few.setdefault(key_hash(form), value)
        if len(self.few) > (CHUNK if self.many is not None else self.most_in_memory):
            self.spill()

    def spill(self) -> None:
        """Brings what is in memory to the disk."""
        import sqlite3

        with _on_disk():
            if self.many is None:
                self.many = sqlite3.connect("")
                # A temporary file of SQLite's own: it goes with the connection, and no index beside
                # the table is needed.
                self.many.execute(
                    "create table answers (key blob primary key, value blob) without rowid"
                )
            rows = ((key, pickle.dumps(value)) for key, value in self.few.items())
            self.many.executemany("insert or ignore into answers values (?, ?)", rows)
        self.few = {}

    def get_all(self, forms: Sequence[Form | None]) -> list[object]:
        """The answer for each key; None for a key without one, or for none."""
        hashes = list(map(_hash_of, forms))
        if self.many is None:
            known: Mapping[bytes, object] = self.few
        else:
            if self.few:
                # Those in memory are put to the others: one place to look into.
                self.spill()
            known = self._from_disk({key for key in hashes if key is not None})
        answers: list[object] = [None] * len(hashes)
        for number, key in enumerate(hashes):
            if key is not None:
                answers[number] = known.get(key)
        return answers

    def _from_disk(self, keys: Collection[bytes]) -> dict[bytes, object]:
        assert self.many is not None
        known: dict[bytes, object] = {}
        with _on_disk():
            # In their order, as the index has them: neighbours stand on one page of the file.
            for key in sorted(keys):
                query = "select value from answers where key = ?"
                row = self.many.execute(query, (key,)).fetchone()
                if row is not None:
                    known[key] = pickle.loads(row[0])
        return known


@contextmanager
def _on_disk() -> Iterator[None]:
    # Loaded where there are too many keys for memory.
    import sqlite3

    try:
        yield
    except sqlite3.Error as error:
        hint = "lookups across the run keep their keys in a temporary file: TMPDIR says where"
        raise OutputError(
            Code.NOT_WRITTEN, f"a temporary file: {error}", hint=hint
        ) from None


# What is known of lookups across the run, by the field that looks; one that is not there is not
# known yet.
Resolved = Mapping[FieldName, Known]


def _hash_of(form: Form | None) -> bytes | None:
    return None if form is None else key_hash(form)
