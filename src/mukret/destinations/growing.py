"""A folder that grows: the files of earlier runs, the counts of all of them added up."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Mapping
from pathlib import Path

from mukret.codes import Code
from mukret.destinations.contract import Delivery
from mukret.destinations.publish import RUN_FILE
from mukret.errors import OutputError
from mukret.values import JsonValue

Record = dict[str, JsonValue]
_COUNTS = ("tables", "bad_documents", "documents_left_out", "response")


class Before:
    """What stands in a folder to which a run adds.

    `state` tells whether it is still the same folder.
    """

    def __init__(self, place: Path) -> None:
        """Raises OutputError for a folder without the record of a run."""
        self.place = place
        try:
            self.record: Record = json.loads((place / RUN_FILE).read_bytes())
            # By this it is seen whether another run has written meanwhile.
            self.state = os.stat(place)
        except (OSError, ValueError) as error:
            raise OutputError(
                Code.NOT_EMPTY, f"{place}: its {RUN_FILE} can't be read: {error}"
            ) from None

    @property
    def number(self) -> int:
        """That of the run that adds to it, from 2 on."""
        return int(self.record.get("runs", 1)) + 1

    @property
    def taken(self) -> set[str]:
        return {source["sha256"] for source in self.record["inputs"]}

    @property
    def unchanged(self) -> bool:
        return os.path.samestat(os.stat(self.place), self.state)

    def refuse_differences(
        self, target: str, form: str, columns: Mapping[str, Mapping[str, str]]
    ) -> None:
        """Raises OutputError where the files of both runs would not go together; all that differs
        is named.
        """
        differing = []
        if self.record.get("format") != form:
            differing.append(f"it holds {self.record.get('format', 'csv')}, not {form}")
        before: Mapping[str, Mapping[str, str]] = self.record.get("columns", {})
        for table in sorted(before.keys() & columns.keys()):
            old, new = before[table], columns[table]
            differing += [
                (
                    f"{table}.{name} is {old.get(name, 'missing')}, now "
                    f"{new.get(name, 'missing')}"
                )
                for name in dict.fromkeys([*old, *new])
                if old.get(name) != new.get(name)
            ]
            # Readers of the files take their columns by the order of the first one.
            if not differing and list(old) != list(new):
                differing.append(f"the columns of {table} stand in another order")
        if differing:
            raise OutputError(
                Code.OTHER_TABLE,
                f"{target} differs: {'; '.join(differing)}",
                hint="name another folder",
            )

    def keep(self, work: Path, names: set[str]) -> list[str]:
        """Puts its files into another folder too, under the same names, but for some; gives the
        names.
        """
        kept = [name for name in self.record["files"] if name not in names]
        for name in kept:
            try:
                os.link(self.place / name, work / name)
            except OSError:  # a file system without hard links
                shutil.copy2(self.place / name, work / name)
        return kept

    def plus(self, record: Record) -> Record:
        """The record of all runs together: inputs and counts of all, the rest of the last."""
        before = self.record
        counts = {name: added(before.get(name), record[name]) for name in _COUNTS}
        return {
            **record,
            **counts,
            # The record is of the folder: from its first run to its last.
            "started": before["started"],
            "runs": self.number,
            "inputs": [*before["inputs"], *record["inputs"]],
        }


def added(before: JsonValue, now: JsonValue) -> JsonValue:
    """Numbers added up, member by member."""
    # A table that one of the runs did not have.
    if before is None or now is None:
        return now if before is None else before
    if isinstance(before, dict):
        return {
            name: added(before.get(name), now.get(name)) for name in {**before, **now}
        }
    return before + now


def columns_of(delivery: Delivery) -> dict[str, dict[str, str]]:
    """The columns of each table, and their types by name."""
    tables = delivery.rules.tables
    return {name: tables[name].column_types for name in delivery.schemas}
