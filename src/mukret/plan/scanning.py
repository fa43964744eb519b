"""What a scan looks for, out of the rules: tables, and for each field the columns or the lists that
it is made of.

Rows and values at paths of names, indexes and wildcards are found by the scan. Where a rule looks
more closely (filters, `..`, conditions, rows that are put together) the node above is decoded and
the plain finder goes on from there, for those rows alone.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from mukret.paths import Filter, Name, Path, Segment, child_segment
from mukret.paths.filters import Logical, looks_at_the_root, queries_in
from mukret.paths.query import with_wildcards
from mukret.rules.model import RESPONSE, Field, ResponseKind, Rules, Table, must_haves
from mukret.rules.sources import At, Fact
from mukret.scan import Program
from mukret.scan.program import (
    DOCUMENT,
    CellEnd,
    Met,
    Noted,
    Route,
    RowEnd,
    TableShape,
    can_be_scanned,
    compiled,
)
from mukret.semantics.acceptance import Acceptance


@dataclass(frozen=True)
class ByColumn:
    """One node of each row: what stands in this column."""

    column: int


@dataclass(frozen=True)
class ByList:
    """Several nodes of each row: the rows of a table that has nothing else, or what stands in a
    column of these.
    """

    table: int
    column: int | None
    source: int
    """The number under which the scan notes where a step of the path met another kind."""


@dataclass(frozen=True)
class OfMember:
    """One node of each row of a zip: the row of the table with this number among those of its
    arrays, or what stands in a column of it.
    """

    array: int
    column: int | None


NodeSource = ByColumn | ByList | OfMember


@dataclass(frozen=True)
class ScannedCondition:
    """What rows of a table must fulfil, and the columns that this looks at, by their path from the
    row; no path leads through another.
    """

    logicals: tuple[Logical, ...]
    columns: Mapping[tuple[Segment, ...], int]


@dataclass
class TableScan:
    """A table as a scan knows it: its number, and for each of its fields where the nodes of each of
    its paths are, by name. Other fields that look at nodes are read the plain way. `arrays`: rows
    are put together out of those of these tables, by the name of the member.
    """

    number: int
    fields: dict[str, tuple[NodeSource, ...]] = field(default_factory=dict)
    arrays: dict[str, int] = field(default_factory=dict)


@dataclass(frozen=True)
class Sign:
    """What shows that a document has something: one of these columns of the documents, or rows of a
    table within.
    """

    column: int | None = None
    table: int | None = None


@dataclass
class ScanPlan:
    """`named`: for each table of the scan whether names of members are kept.

    `tables` by name; those that are not among them are found the plain way. `judged` has what rows
    of some tables, by their number, must fulfil: the scan takes them all; `kinds` what documents of
    a kind must, where one is told by what is in it. `embedded`: programs that find texts that hold
    JSON, as the rows of a table. `members`: for each name that a rule looks for first in a document
    the column that says whether it is there. `must_have`: the same for each path that documents
    must have; None: that is seen by the plain way.
    """

    program: Program
    named: list[bool]
    tables: dict[str, TableScan]
    judged: dict[int, ScannedCondition]
    kinds: dict[str, ScannedCondition]
    embedded: list[Program]
    members: dict[str, int]
    must_have: list[Sign | None]


def scan_plan(rules: Rules, acceptance: Acceptance) -> ScanPlan | None:
    """None where documents must be decoded as a whole, since texts are unfolded at places that no
    scan finds.
    """
    if not all(can_be_scanned(item.path) for item in rules.embedded):
        return None
    return _Making(rules, acceptance).plan()


class _Making:
    def __init__(self, rules: Rules, acceptance: Acceptance) -> None:
        self.rules = rules
        self.acceptance = acceptance
        # By the number of the table, side by side: the scanner takes arrays, not objects.
        self.parents: list[int] = []
        self.columns: list[int] = []
        self.named: list[bool] = []
        self.outer: list[bool] = []
        self.routes: list[Route] = []
        self.tables: dict[str, TableScan] = {}
        self.judged: dict[int, ScannedCondition] = {}

    def plan(self) -> ScanPlan:
        named = need_names(self.rules.parents_first())
        self.tables[RESPONSE] = TableScan(
            self.table(DOCUMENT, outer=False, named=False)
        )
        self.add_fields(self.tables[RESPONSE], self.rules.response_fields)
        # A table below one that can't be scanned can't be either: nobody numbers its parents.
        for table in self.rules.parents_first():
            above = self.tables.get(table.within or RESPONSE)
            if above is None or above.arrays:
                continue
            if rows_can_be_scanned(table, named=table.name in named):
                self.add_table(table, above.number, named=table.name in named)
            elif zip_can_be_scanned(table, named=table.name in named):
                self.add_zip(table, above.number)
        members = self.members()
        kinds = {
            name: self.judgement(DOCUMENT, (kind.when.logical,))
            for name, kind in self.kinds()
            if kind.when
        }
        must_have = [self.sign(path) for path in must_haves(self.acceptance.rules)]
        shapes = zip(self.parents, self.columns, self.named, self.outer, strict=True)
        program = compiled([TableShape(*shape) for shape in shapes], self.routes)
        embedded = [finder(item.path) for item in self.rules.embedded]
        return ScanPlan(
            program,
            self.named,
            self.tables,
            self.judged,
            kinds,
            embedded,
            members,
            must_have,
        )

    def kinds(self) -> Iterable[tuple[str, ResponseKind]]:
        return self.acceptance.rules.kinds.items()

    def table(self, parent: int, *, named: bool, outer: bool) -> int:
        self.parents.append(parent)
        self.columns.append(0)
        self.named.append(named)
        self.outer.append(outer)
        return len(self.parents) - 1

    def column(self, table: int) -> int:
        self.columns[table] += 1
        return self.columns[table] - 1

    def add_table(self, table: Table, parent: int, *, named: bool) -> None:
        named = (
            named or not table.rows.paths[0].singular
        )  # so that it is known where a row stands
        scan = TableScan(
            self.table(
                parent, named=named and not table.rows.spread, outer=table.rows.outer
            )
        )
        self.tables[table.name] = scan
        end = RowEnd(scan.number, table.rows.spread)
        segments = table.rows.paths[0].segments
        self.routes.append(Route(parent, unfiltered(segments), end, Met(scan.number)))
        logicals = filters_in(segments)
        if table.rows.when is not None:
            logicals = (*logicals, table.rows.when.logical)
        self.judge(scan.number, logicals)
        self.add_fields(scan, table.fields)

    def add_zip(self, table: Table, parent: int) -> None:
        scan = self.tables[table.name] = TableScan(parent)
        assert table.rows.zip is not None
        for member, path in table.rows.zip.paths.items():
            scan.arrays[member] = self.table(parent, named=False, outer=False)
            number = scan.arrays[member]
            self.routes.append(
                Route(parent, path.segments, RowEnd(number), Met(number))
            )
        for own_field in table.fields:
            if isinstance(own_field.source, At) and own_field.source.take in (
                "only",
                "first",
                "last",
            ):
                sources = [
                    self.of_member(scan, path) for path in own_field.source.paths
                ]
                # A path with an alternative that can't be scanned is left to the plain way as a
                # whole.
                scannable = [source for source in sources if source is not None]
                if len(scannable) == len(sources):
                    scan.fields[own_field.name] = tuple(scannable)

    def of_member(self, scan: TableScan, path: Path) -> OfMember | None:
        """Where the one node of a path from the rows of a zip is; None if it is in none of its
        arrays.
        """
        names, _ = path.leading_names
        if (
            not names
            or names[0] not in scan.arrays
            or not path.singular
            or not can_be_scanned(path)
        ):
            return None
        # Each array of a zip is a table of its own for the scanner; row n has the nth elements of
        # all.
        array = scan.arrays[names[0]]
        number = list(scan.arrays).index(names[0])
        if len(path.segments) == 1:
            return OfMember(number, None)
        column = self.column(array)
        self.routes.append(
            Route(
                array, path.segments[1:], CellEnd(array, column), Noted(array, column)
            )
        )
        return OfMember(number, column)

    def judge(self, table: int, logicals: tuple[Logical, ...]) -> None:
        """Has rows of a table judged by conditions that look at nothing but the row."""
        if logicals:
            self.judged[table] = self.judgement(table, logicals)

    def judgement(self, table: int, logicals: tuple[Logical, ...]) -> ScannedCondition:
        asked = {
            looked_at(query.segments)
            for logical in logicals
            for query, _ in queries_in(logical)
        }
        columns = {}
        for segments in asked:
            # What stands below something that is looked at anyway needs no column of its own.
            if not any(segments[:length] in asked for length in range(len(segments))):
                columns[segments] = self.column(table)
                self.routes.append(
                    Route(table, segments, CellEnd(table, columns[segments]))
                )
        return ScannedCondition(logicals, columns)

    def add_fields(self, scan: TableScan, fields: Iterable[Field]) -> None:
        for own_field in fields:
            if isinstance(own_field.source, At) and field_can_be_scanned(
                own_field.source
            ):
                scan.fields[own_field.name] = tuple(
                    self.nodes(scan.number, path) for path in own_field.source.paths
                )

    def nodes(self, table: int, path: Path) -> NodeSource:
        """Where the nodes of a path from the rows of a table are."""
        column = self.column(table)
        if path.singular:
            self.routes.append(
                Route(
                    table, path.segments, CellEnd(table, column), Noted(table, column)
                )
            )
            return ByColumn(column)
        listed = self.table(
            table, named=False, outer=False
        )  # `column` holds nothing: a number for what is noted
        noted = Noted(table, column)
        filtered = [
            number for number, segment in enumerate(path.segments) if is_filter(segment)
        ]
        if not filtered:
            self.routes.append(Route(table, path.segments, RowEnd(listed), noted))
            return ByList(listed, None, column)
        head, tail = path.segments[: filtered[0] + 1], path.segments[filtered[0] + 1 :]
        self.routes.append(Route(table, unfiltered(head), RowEnd(listed), noted))
        self.judge(listed, filters_in(head))
        value = self.column(listed)
        self.routes.append(Route(listed, tail, CellEnd(listed, value), noted))
        return ByList(listed, value, column)

    def members(self) -> dict[str, int]:
        """A column for each name with which a look into documents begins."""
        columns: dict[str, int] = {}
        for look in self.acceptance.looks:
            for segment in (
                [look.target.segments[0]] if isinstance(look.target, Path) else []
            ):
                for name in names_in(segment):
                    if name not in columns:
                        columns[name] = self.unnoted((child_segment(Name(name)),))
        return columns

    def unnoted(self, segments: tuple[Segment, ...]) -> int:
        """A column of the documents that only shows whether something is there."""
        column = self.column(DOCUMENT)
        self.routes.append(Route(DOCUMENT, segments, CellEnd(DOCUMENT, column)))
        return column

    def sign(self, path: Path) -> Sign | None:
        if not can_be_scanned(path):
            return None
        if path.singular:
            return Sign(column=self.unnoted(path.segments))
        table = self.table(DOCUMENT, named=False, outer=False)
        self.routes.append(Route(DOCUMENT, path.segments, RowEnd(table)))
        return Sign(table=table)


def finder(path: Path) -> Program:
    """A program that finds the nodes of a path in documents, as the rows of its second table."""
    shapes = [TableShape(DOCUMENT, 0), TableShape(DOCUMENT, 0)]
    return compiled(shapes, [Route(DOCUMENT, path.segments, RowEnd(1))])


def rows_can_be_scanned(table: Table, *, named: bool) -> bool:
    """Whether a scan finds the rows of a table, once it finds those around."""
    rows = table.rows
    if not rows.plain or len(rows.paths) != 1:
        return False
    segments = rows.paths[0].segments
    filtered = bool(segments) and is_filter(segments[-1])
    if not can_be_scanned(Path("", segments[:-1] if filtered else segments)):
        return False
    # A condition is asked of cells; one that looks at the root, or must see placeholders, is not.
    logicals = filters_in(segments) + (
        (rows.when.logical,) if rows.when is not None else ()
    )
    if any(map(looks_at_the_root, logicals)) or (logicals and rows.outer):
        return False
    return not (rows.spread and (named or filtered))


def zip_can_be_scanned(table: Table, *, named: bool) -> bool:
    """Whether a scan finds the arrays of which the rows of a table are put together."""
    rows = table.rows
    if rows.zip is None or named or rows.when is not None or rows.outer:
        return False
    return all(map(can_be_scanned, rows.zip.paths.values()))


def field_can_be_scanned(at: At) -> bool:
    """Whether a scan finds all nodes that a field is made of."""
    if not all(map(nodes_can_be_scanned, at.paths)):
        return False
    if at.take in ("only", "first", "last"):
        return True
    return len(at.paths) == 1 and not at.paths[0].singular


def nodes_can_be_scanned(path: Path) -> bool:
    """Whether a scan finds the nodes of a path: it may have one filter that looks at nothing but
    the node in question, and names and indexes after that.
    """
    filtered = [
        number for number, segment in enumerate(path.segments) if is_filter(segment)
    ]
    if not filtered:
        return can_be_scanned(path)
    # Before the filter a path that can be scanned, behind it one to a single node.
    head, tail = path.segments[: filtered[0]], path.segments[filtered[0] + 1 :]
    after = Path("", tail)
    return (
        can_be_scanned(Path("", head))
        and can_be_scanned(after)
        and after.singular
        and not path.looks_at_the_root
    )


def is_filter(segment: Segment) -> bool:
    return isinstance(segment.only, Filter)


def unfiltered(segments: Sequence[Segment]) -> tuple[Segment, ...]:
    """The same steps, with all that filters choose from."""
    return with_wildcards(segments, is_filter)


def filters_in(segments: Sequence[Segment]) -> tuple[Logical, ...]:
    return tuple(
        segment.only.logical for segment in segments if isinstance(segment.only, Filter)
    )


def looked_at(segments: tuple[Segment, ...]) -> tuple[Segment, ...]:
    """The path to the one node below which a query finds everything."""
    for number, segment in enumerate(segments):
        if not segment.singular or not can_be_scanned(Path("", (segment,))):
            return segments[:number]
    return segments


def names_in(segment: Segment) -> list[str]:
    """The names of members that a child segment looks for."""
    if segment.descend:
        return []
    return [
        selector.name for selector in segment.selectors if isinstance(selector, Name)
    ]


def need_names(tables: Sequence[Table]) -> set[str]:
    """The tables whose rows must know their member name: for a field, or for a child that is the
    same node.
    """
    needed: set[str] = set()
    # Children first: what they need of their parent is then known.
    for table in reversed(tables):
        if table.name in needed or any(
            own_field.source == Fact("name") for own_field in table.fields
        ):
            needed.add(table.name)
            if table.rows.may_be_the_parent:
                needed.add(table.within or RESPONSE)
    return needed
