"""Parts → one delivery, as if all of the input had been extracted at once."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from typing import TYPE_CHECKING

from mukret.codes import Code
from mukret.destinations.deliver import Extraction, record_of
from mukret.engine.key_resolution import (
    KeyResolver,
    ResolvedTable,
    kept_rows,
    otherwise,
    rejects_of,
    resolver_after,
)
from mukret.engine.run import Links
from mukret.engine.unresolved import ABOVE, own_columns
from mukret.errors import InputError, Notice, UsageError
from mukret.parts.reading import MergedBlock, Part, blocks_in_order
from mukret.parts.together import Together, Told
from mukret.plan.compiled import make_plan
from mukret.rules.model import Rules
from mukret.semantics.rejects import Reject
from mukret.semantics.tally import Tally
from mukret.values import JsonValue

if TYPE_CHECKING:
    import pyarrow as pa


@dataclass(frozen=True)
class MergedOutput:
    """What a block gives to a destination."""

    tables: Mapping[str, pa.Table]
    rejects: Sequence[Reject]
    above: Mapping[str, Sequence[int]]


class Merge:
    """Parts on their way into a destination: what `deliver` wants of a run."""

    def __init__(self, rules: Rules, parts: Sequence[Part]) -> None:
        """Raises InputError where parts are missing, come twice, or don't belong together."""
        check_parts(parts, rules)
        self.rules = rules
        self.parts = parts
        # A part without files, of more machines than files, has nothing to say first.
        in_order = sorted(
            parts, key=lambda part: (not part.names, part.share["number"])
        )
        self.together = Together(
            rules, (Told.of_record(part.record) for part in in_order)
        )
        inputs = {
            read["number"]: read for part in parts for read in part.record["inputs"]
        }
        self.inputs = [_without_number(inputs[number]) for number in sorted(inputs)]
        # The run began when the first of its machines did.
        self.started = min(
            datetime.fromisoformat(part.record["started"]) for part in parts
        )

    @cached_property
    def schemas(self) -> dict[str, pa.Schema]:
        plans = {plan.table.name: plan for plan in make_plan(self.rules, None).tables}
        return {
            name: plans[name].schema
            for name, table in self.rules.tables.items()
            if table.columns
        }

    @property
    def extraction(self) -> Extraction:
        """As it is delivered."""
        return Extraction(
            self.rules, self.schemas, self.tally, self.batches, self.record
        )

    def record(self) -> dict[str, JsonValue]:
        """The record of one run over all of the input, and how many parts there were."""
        record = record_of(
            self.rules,
            self.schemas,
            self.tally,
            self.started,
            self.inputs,
            [rule.as_json() for rule in self.together.unmatched],
            self.together.sample,
        )
        # All else is as one run over all of the input would say it.
        return {**record, "parts": len(self.parts)}

    @property
    def tally(self) -> Tally:
        return self.together.tally

    def notices(self) -> list[Notice]:
        """The warnings of the whole."""
        return self.together.notices

    # ---- rows

    def batches(self, links: Links = Links.NONE) -> Iterator[MergedOutput]:
        """What is written, block by block in the order of the input; afterwards `tally` is that of
        all of it.

        Raises InputError if no document could be read, UsageError for nested records where a
        document came in parts.
        """
        # Where the last row with a key counts all blocks are looked at before any is written.
        resolver = resolver_after(
            self.rules, lambda: (block.rows for block in self.blocks())
        )
        for block in self.blocks():
            if links is not Links.NONE and not block.rows.whole:
                message = (
                    f"{block.rows.file} has a document that was read in parts, and its "
                    "records are not whole"
                )
                raise UsageError(Code.NOT_SUPPORTED, message, hint="leave out --nested")
            yield self.output(block, resolver, links)
        if not self.tally.documents and self.tally.bad_documents:
            reason = next(
                reason for reason in self.tally.reasons.values() if reason.table is None
            )
            message = (
                f"{reason.file}, document {reason.document}: {reason.example.message}"
            )
            raise InputError(
                reason.code, f"no document could be read; the first: {message}"
            )

    def blocks(self) -> Iterator[MergedBlock]:
        return blocks_in_order(self.parts, list(self.rules.tables))

    def output(
        self, block: MergedBlock, resolver: KeyResolver, links: Links
    ) -> MergedOutput:
        resolved = resolver.resolve(block.rows)
        rejects = list(block.rejects)
        tables: dict[str, pa.Table] = {}
        for name, table in resolved.items():
            rows = block.rows.tables[name]
            self.tally.tables[name].merge(otherwise(rows, table))
            rejects += rejects_of(name, block.rows.file, rows, table)
            if name in self.schemas:
                tables[name] = own_columns(
                    kept_rows(rows, table), self.rules.tables[name], self.schemas[name]
                )
        # Those of the part and those of the keys in the order in which one machine tells them.
        rejects.sort(key=self.place)
        self.tally.note(rejects)
        above = {} if links is Links.NONE else self.above(block, resolved)
        ordered = {name: tables[name] for name in self.schemas if name in tables}
        return MergedOutput(ordered, rejects, above)

    @cached_property
    def place(self) -> Callable[[Reject], tuple[int, int]]:
        """A sort key: the rejects of a block, document by document, and then table by table."""
        ranks = {
            table.name: rank for rank, table in enumerate(self.rules.parents_first())
        }
        return lambda reject: (reject.document, ranks.get(reject.table or "", 0))

    def above(
        self, block: MergedBlock, resolved: Mapping[str, ResolvedTable]
    ) -> dict[str, Sequence[int]]:
        """For each row that is written the number of the one it stands in, of the nearest table
        above that is.
        """
        above: dict[str, Sequence[int]] = {}
        for name in self.schemas:
            rows = (
                [
                    row
                    for row, outcome in enumerate(resolved[name].row_outcomes)
                    if not outcome
                ]
                if name in resolved
                else []
            )
            table = name
            while rows and (within := self.rules.tables[table].within) is not None:
                owners = block.rows.tables[table].column(ABOVE).to_pylist()
                # Upwards past tables that are not written, to the nearest one that is.
                rows = [owners[row] for row in rows]
                table = within
                if table in self.schemas:
                    numbers = _numbers(resolved[table])
                    above[name] = [numbers[row] for row in rows]
                    break
        return above


def _numbers(table: ResolvedTable) -> dict[int, int]:
    """For each row that is written its number among the written ones."""
    kept = (row for row, outcome in enumerate(table.row_outcomes) if not outcome)
    return {row: number for number, row in enumerate(kept)}


def _without_number(told: Mapping[str, JsonValue]) -> dict[str, JsonValue]:
    return {name: value for name, value in told.items() if name != "number"}


def _hashes(told: Mapping[str, JsonValue]) -> set[str]:
    """The hashes of the rules file of a part, and of all files that it includes or refers to."""
    return {told["sha256"], *(file["sha256"] for file in told.get("includes", ()))}


def check_parts(parts: Sequence[Part], rules: Rules) -> None:
    """Raises InputError for parts that are not those of one extraction by these rules, each there
    once.
    """
    first = parts[0]
    for part in parts:
        _check_against(part, first)
        if _hashes(part.record["rules"]) != {rules.sha256, *rules.included.values()}:
            message = f"{part.folder} was extracted by other rules than {rules.file}"
            raise InputError(
                Code.OTHER_PARTS, message, hint="extract all parts by the same rules"
            )
    numbers = Counter(part.share["number"] for part in parts)
    count = first.share["of"]
    missing = [
        f"{number}/{count}" for number in range(1, count + 1) if not numbers[number]
    ]
    # A part that lacks would lack in the tables, and nobody would see it.
    if missing:
        shown = ", ".join(missing[:5]) + (" …" if len(missing) > 5 else "")
        raise InputError(
            Code.OTHER_PARTS, f"missing: part {shown}", hint="name all parts"
        )
    number, times = numbers.most_common(1)[0]
    if times > 1:
        message = f"part {number}/{count} is there twice"
        raise InputError(Code.OTHER_PARTS, message, hint="name each once")


def _check_against(part: Part, first: Part) -> None:
    """Raises InputError if two parts are not shares of one input."""
    compared = {
        "of": "number of parts",
        "inputs": "number of inputs",
        "fingerprint": "inputs",
    }
    for name, what in compared.items():
        # The fingerprint is of names and sizes of all inputs: parts of other days have another.
        if part.share[name] != first.share[name]:
            message = f"{part.folder} and {first.folder} saw another {what}"
            hint = "extract all parts from the same files"
            raise InputError(Code.OTHER_PARTS, message, hint=hint)
