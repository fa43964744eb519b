"""Passes over the input before any row is written: they gather the answers of lookups across the
run, and the last row with each key. Several passes are needed where one of these hangs on another.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from mukret.documents import Source
from mukret.engine.decided import DecidedRows
from mukret.rules.model import Field, Rules
from mukret.rules.part import part_for
from mukret.rules.schedule import lookup_passes
from mukret.rules.sources import Lookup
from mukret.semantics.answers import Answers, FieldName, Known
from mukret.semantics.outcomes import LastRows, SeenKeys, keys_of, last_key_passes


@dataclass
class KnownBefore:
    """The last row with each key, by table, and what lookups across the run find."""

    last: dict[str, LastRows] = field(default_factory=dict)
    answers: dict[FieldName, Known] = field(default_factory=dict)


# Reads all of the input by some rules; gives the rows of each batch, everything decided.
Read = Callable[[Rules, KnownBefore, Mapping[str, SeenKeys]], Iterator[DecidedRows]]


class Passes:
    def __init__(
        self, rules: Rules, whole: Rules, sources: Sequence[Source], read: Read
    ) -> None:
        """`whole`: the rules of which `rules` are a part."""
        self.rules = rules
        self.whole = whole
        self.sources = sources
        self.read = read

    def known(self) -> KnownBefore:
        """Makes as many passes as it takes, or none. Raises InputError."""
        known = KnownBefore()
        lookups = lookup_passes(self.whole, self.rules.tables)
        passes_for_last = last_key_passes(self.rules.parents_first())
        if lookups or passes_for_last:
            for source in self.sources:
                source.keep()
        for looking in lookups:
            targets = [
                table for _, own_field in looking for table in own_field.reads.rows
            ]
            # Only the tables that a lookup looks into are read, if the others can't make a
            # difference; else all of the rules.
            if not self._gathered(known, looking, part_for(self.whole, targets)):
                self._gathered(known, looking, self.whole)
        for names in passes_for_last:
            if not self._last_found(known, names, part_for(self.rules, names)):
                self._last_found(known, names, self.rules)
        return known

    def _gathered(
        self, known: KnownBefore, looking: Sequence[tuple[str, Field]], rules: Rules
    ) -> bool:
        """Gathers what some lookups find, by as much of the rules as they hang on; False as
        `_last_found`.
        """
        gathered = {
            (table, own_field.name): (own_field.source, Answers())
            for table, own_field in looking
            if isinstance(own_field.source, Lookup)
        }

        # Called for each batch before its rows are handed on; what it keeps grows with keys, not
        # with rows.
        def note(rows: DecidedRows) -> None:
            new = {table.name: table.columns for table in rows.new}
            for lookup, answers in gathered.values():
                if lookup.table in new:
                    answers.add(
                        (form, value)
                        for _, form, value in new[lookup.table].answered(lookup)
                    )

        enough = self._read_before(
            known, rules, keys_of(rules.tables.values(), {}), note
        )
        if enough:
            known.answers.update(
                {name: answers for name, (_, answers) in gathered.items()}
            )
        return enough

    def _last_found(
        self, known: KnownBefore, names: Sequence[str], rules: Rules
    ) -> bool:
        """Finds the last row with each key of some tables, by as much of the rules as they hang on;
        False if that is too little to tell, since a text that can't be read may stand in rows of
        other tables.
        """
        for name in names:
            known.last.pop(name, None)
        seen = keys_of(rules.tables.values(), known.last, names)
        return self._read_before(known, rules, seen, lambda _: None)

    def _read_before(
        self,
        known: KnownBefore,
        rules: Rules,
        seen: Mapping[str, SeenKeys],
        note: Callable[[DecidedRows], None],
    ) -> bool:
        """Reads all of the input by a part of the rules; False if it was too little of them."""
        enough = True
        for rows in self.read(rules, known, seen):
            enough = not rows.found.has_text_faults or rules is self.whole
            if not enough:
                break
            note(rows)
        for source in self.sources:
            # Also when it broke off: the next pass begins at the beginning.
            source.rewind()
        return enough
