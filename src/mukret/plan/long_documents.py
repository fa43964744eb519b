"""Which arrays of a long document it can be cut at, so that it need not be in memory as a whole,
and why not at others.

The rows of a table that stand in the elements of one array can be found an element at a time, as
long as nothing else looks at the array or into it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from mukret.paths import Name, Path, Segment, Wildcard
from mukret.paths.filters import looks_at_the_root
from mukret.paths.locate import path_text
from mukret.rules.graph import looked_at
from mukret.rules.model import RESPONSE, Field, Rules, Table, must_haves
from mukret.rules.sources import Compute, Fact, Lookup, expression_reads

Names = tuple[str, ...]


@dataclass(frozen=True)
class CutArray:
    """An array, by the names of the members that lead to it.

    `rows` are the tables whose rows are its elements or stand in them, `tables` these and all
    tables within.
    """

    names: Names
    rows: frozenset[str]
    tables: frozenset[str]

    @property
    def path(self) -> str:
        return path_text(_as_segments(self.names))


@dataclass(frozen=True)
class LongDocuments:
    """`arrays` are those at which a document can be cut, `whole` says of the others why they can't
    be.
    """

    arrays: tuple[CutArray, ...]
    whole: dict[str, str]


def long_documents(rules: Rules) -> LongDocuments:
    """Where these rules allow a document to be cut."""
    if _conditions_look_at_the_root(rules) or _descends_from_the_root(rules):
        return LongDocuments((), {"$": "the rules may look anywhere in it"})
    if rules.embedded:
        return LongDocuments(
            (), {"$": "texts that are embedded in it are read first (embedded)"}
        )
    if any(kind.when for kind in rules.kinds.values()):
        return LongDocuments((), {"$": "its kind is told by what is in it (kinds)"})
    # An array can be cut if no rule needs to see two of its elements at once. Each candidate is
    # asked for a reason against it, and the reasons are told by `extract -v`: somebody waits for a
    # document that is not cut.
    reading = _Arrays(rules)
    arrays = []
    whole = {}
    for array in reading.candidates():
        reason = next(reading.against(array), None)
        if reason is None:
            arrays.append(array)
        else:
            whole[f"{array.path}[*]"] = reason
    return LongDocuments(tuple(arrays), whole)


def _conditions_look_at_the_root(rules: Rules) -> bool:
    """Whether a condition may read any part of the document."""
    conditions = [
        table.rows.when.logical
        for table in rules.tables.values()
        if table.rows.when is not None
    ]
    return any(looks_at_the_root(logical) for logical in conditions) or any(
        path.looks_at_the_root for path in _all_paths(rules)
    )


def _descends_from_the_root(rules: Rules) -> bool:
    """Whether a path looks for descendants of the document (`$..`)."""
    paths = [
        path
        for table in rules.tables.values()
        # Tables within look from their own rows on.
        if table.within is None
        for path in table.rows.reads
    ]
    for field in rules.response_fields:
        paths += field.reads.paths
    return any(path.segments and path.segments[0].descend for path in paths)


def _all_paths(rules: Rules) -> Iterator[Path]:
    for _, field in rules.all_fields():
        yield from field.reads.paths
    for table in rules.tables.values():
        yield from table.rows.reads
    yield from must_haves(rules)


class _Arrays:
    """What the rules read of a document.

    `bases` has the tables of which there is one row at most, by names from the root (the document
    itself among them).
    """

    def __init__(self, rules: Rules) -> None:
        self.rules = rules
        self.bases: dict[str, Names] = {RESPONSE: ()}
        self.in_arrays: dict[Names, list[Table]] = {}
        for table in rules.parents_first():
            base = self.bases.get(table.within or RESPONSE)
            if base is None or len(table.rows.named_paths) != 1:
                continue
            names, rest = table.rows.named_paths[0].leading_names
            # Rows that are reached by names alone are one per document: arrays below them can be
            # cut as well.
            if not rest and table.rows.plain and not table.rows.spread:
                self.bases[table.name] = (*base, *names)
            elif rest and rest[0].only == Wildcard():
                self.in_arrays.setdefault((*base, *names), []).append(table)

    def candidates(self) -> Iterator[CutArray]:
        for names, rows in self.in_arrays.items():
            tables = {table.name for table in rows}
            for table in self.rules.parents_first():
                if table.within in tables:
                    tables.add(table.name)
            yield CutArray(
                names, frozenset(table.name for table in rows), frozenset(tables)
            )

    def against(self, array: CutArray) -> Iterator[str]:
        """Why a document can't be cut at an array."""
        for table in self.in_arrays[array.names]:
            yield from _against_rows(table)
        for name, path in self.paths(array):
            if _may_reach(path, array.names):
                yield f"{name} reads it too"
        yield from self.against_lookups(array)
        yield from self.against_fields(array)
        yield from self.against_conditions(array)

    def against_lookups(self, array: CutArray) -> Iterator[str]:
        for table_name, field in self.rules.all_fields():
            if isinstance(field.source, Lookup):
                yield from (
                    f"{table_name}.{field.name} looks up in {name}"
                    for name in array.tables & {*looked_at([field.reads])}
                )

    def against_fields(self, array: CutArray) -> Iterator[str]:
        for table_name, field in self.fields_outside():
            if (
                field.reads.rest
                and array.names[: len(self.bases[table_name])] == self.bases[table_name]
            ):
                yield f"{table_name}.{field.name} takes the rest"
            if (
                isinstance(field.source, Compute)
                and field.reads.rows.keys() & array.tables
            ):
                yield f"{table_name}.{field.name} counts or sums all its rows"

    def against_conditions(self, array: CutArray) -> Iterator[str]:
        for name in self.bases.keys() - {RESPONSE}:
            table = self.rules.tables[name]
            if (
                table.where is not None
                and expression_reads(table.where).rows.keys() & array.tables
            ):
                yield f"where of {name} counts or sums all its rows"
            # What a condition looks at is not followed: it may reach the array, so the document is
            # not cut.
            if table.rows.when is not None:
                yield f"when of {name} may look at it"

    def fields_outside(self) -> Iterator[tuple[str, Field]]:
        """The fields of the response and of tables with one row."""
        yield from ((RESPONSE, field) for field in self.rules.response_fields)
        for name in self.bases:
            if name != RESPONSE:
                yield from ((name, field) for field in self.rules.tables[name].fields)

    def paths(self, array: CutArray) -> Iterator[tuple[str, tuple[Segment, ...]]]:
        """All paths from the root but those to the rows of the array, and who takes them."""
        for path in must_haves(self.rules):
            names, rest = path.leading_names
            # What stands around an array tells whether it is there.
            if rest or names != array.names[: len(names)]:
                yield "must_have", path.segments
        for table_name, field in self.fields_outside():
            base = _as_segments(self.bases[table_name])
            for path in field.reads.paths:
                yield f"{table_name}.{field.name}", (*base, *path.segments)
        for table in self.rules.tables.values():
            parent = table.within or RESPONSE
            is_outside = table.name not in array.rows and table.name not in self.bases
            if is_outside and parent in self.bases:
                base = _as_segments(self.bases[parent])
                for path in table.rows.reads:
                    yield table.name, (*base, *path.segments)


def _against_rows(table: Table) -> Iterator[str]:
    """Why rows of a table can't be found in a part of a document."""
    rows = table.rows
    words = {
        "zip": rows.zip,
        "header": rows.header,
        "recurse": rows.recurse,
        "spread": rows.spread,
        "outer": rows.outer,
    }
    yield from (
        f"rows of {table.name} are found in all of it ({word})"
        for word, given in words.items()
        if given
    )
    rest = rows.named_paths[0].leading_names[1][1:]
    # A position counts from the beginning of the list, and a part does not know what a condition
    # left out before it.
    if any(field.source == Fact("position") for field in table.fields) and (
        rest or rows.when
    ):
        yield f"rows of {table.name} are numbered"


def _as_segments(names: Names) -> tuple[Segment, ...]:
    return tuple(Segment((Name(name),)) for name in names)


def _may_reach(segments: Sequence[Segment], names: Names) -> bool:
    """Whether a path may lead to an array, into it, or to what it stands in."""
    for segment, name in zip(segments, names, strict=False):
        if segment.descend:
            # It ends above the array, or in it.
            return True
        if all(
            isinstance(selector, Name) and selector.name != name
            for selector in segment.selectors
        ):
            return False
    return True
