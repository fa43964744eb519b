"""What a survey found → tables with their rows, fields and keys."""

from __future__ import annotations

import re
from collections.abc import Sequence

from mukret.drafting.draft_fields import DraftFields
from mukret.drafting.draft_keys import DraftKeys
from mukret.drafting.facts import response_fields
from mukret.drafting.links import DraftLinks
from mukret.drafting.model import Draft, DraftField, DraftTable
from mukret.drafting.names import GENERIC, fresh, singular, snake_case
from mukret.drafting.place_roles import (
    are_rows,
    are_scalars,
    column_names,
    holds_itself,
    holds_lists,
    holds_lists_or_maps,
    is_container,
    is_long,
    is_record,
    path,
    scattered,
    told_kinds,
    unwrapped,
)
from mukret.drafting.readings import names_reading
from mukret.paths import Name, child_segment
from mukret.paths.locate import path_text
from mukret.survey import PlaceReport, SurveyReport
from mukret.survey.places import Place
from mukret.survey.relations import Sorts
from mukret.survey.report import Headed
from mukret.text import shortened
from mukret.values import JsonValue, json_text

MOST_SORTS = 6


def tables_of(
    report: SurveyReport,
    title: str,
    word: str = "rows",
    *,
    of_call: bool = False,
    of_nodes: bool = False,
) -> Draft:
    """A draft of rules for what was surveyed: tables for the lists of records, children within
    their parents.

    `word` is what a table of the documents themselves is called, or of their elements. `of_call`:
    it is the name of a call, and says more than a name such as `data`. `of_nodes`: what was
    surveyed are nodes that a path finds; objects among them are rows.
    """
    return _Drafter(
        report, title, word, word if of_call else None, of_nodes=of_nodes
    ).draft


class _Drafter:
    def __init__(
        self,
        report: SurveyReport,
        title: str,
        word: str,
        call: str | None,
        *,
        of_nodes: bool = False,
    ) -> None:
        self.call = call
        self.of_nodes = of_nodes
        self.reports = {
            id(place_report.place): place_report for place_report in report.places
        }
        self.documents = report.documents
        self.files = report.files
        self.bad_documents = report.bad_documents
        # Places whose rows stand in a table together with those of others.
        self.elsewhere: set[int] = set()
        root = report.places[0].place
        self.begin(title)
        self.root(root, word)
        # Nothing in it looks like rows: each document is one.
        if not self.draft.tables:
            self.begin(title)
            self.table(root, root, "$", None, (word,))
        self.links.tell(report.places)

    def begin(self, title: str) -> None:
        """An empty draft."""
        self.draft = Draft(title, bad_documents=self.bad_documents)
        self.links = DraftLinks()
        self.moment: DraftField | None = None
        self.fields = DraftFields(self.draft, self.links, self.report)
        self.keys = DraftKeys(self.fields, documents=self.documents, files=self.files)

    def root(self, root: Place, word: str) -> None:
        """The tables of all documents."""
        inner, names = unwrapped(root)
        # The same record under several names stands in one table, wherever it is found.
        for places in scattered(root):
            self.scattered(places, root)
        # One document, one row: its lists are tables within.
        if is_record(root) or (self.of_nodes and root.children):
            self.table(root, root, "$", None, (word,))
        # Around one record there are wrappers alone.
        elif names and not holds_lists(root):
            self.table(inner, root, path(inner, root), None, names)
        # What stands beside the lists tells of the answer, and of no row.
        elif holds_lists(root):
            self.draft.response, self.moment = response_fields(
                root, self.documents, self.report
            )
            self.node(root, root, None, () if root.children else (word,))
        elif root.elements is not None:
            self.container(root, root, None, (word,))
        else:
            self.table(root, root, "$", None, (word,))

    def scattered(self, places: list[Place], root: Place) -> None:
        """One table of lists that stand at several depths."""
        first = places[0]
        assert first.step is not None and first.elements is not None
        name = (
            path_text((child_segment(Name(first.step)),))
            .removeprefix("$")
            .removeprefix(".")
        )
        self.elsewhere |= set(map(id, places))
        table = self.table(first.elements, root, f"$..{name}[*]", None, (first.step,))
        table.key = []
        for field in table.fields:
            # What is always there in one place may be missing in another.
            field.required = False
        table.comment = f"found in {len(places)} places"

    def report(self, place: Place) -> PlaceReport:
        return self.reports[id(place)]

    # ---- where rows are

    def object(
        self,
        place: Place,
        base: Place,
        table: DraftTable | None,
        names: tuple[str, ...],
        *,
        leaving: frozenset[str] = frozenset(),
    ) -> None:
        """The members of an object: fields of the table whose rows it stands in, and tables within
        it. `base` is where paths begin: the place of these rows, or the document.
        """
        taken = self.side_by_side(place, base, table, names)
        recursed = (
            table.options.get("recurse")
            if table is not None and place is base
            else None
        )
        for step, child in place.children.items():
            # These are rows of the same table, one level down.
            if (
                recursed
                and child.elements is not None
                and path(child.elements, base) == recursed
            ):
                continue
            if step not in taken and step not in leaving:
                self.node(child, base, table, (*names, step))

    def node(
        self,
        place: Place,
        base: Place,
        table: DraftTable | None,
        names: tuple[str, ...],
    ) -> None:
        """Whatever stands at a place, into the table around it or into one of its own."""
        if id(place) in self.elsewhere:
            return
        kinds = told_kinds(place)
        if is_container(place, kinds):
            self.container(place, base, table, names)
        elif place.columns and kinds == {"array"}:
            self.tuple_columns(place, base, table, names)
        # A record beside the lists of the response, with lists of its own: a table of one row.
        elif table is None and is_record(place) and holds_lists(place):
            self.table(place, base, path(place, base), None, names)
        elif kinds == {"object"} and place.children:
            self.object(place, base, table, names)
        # What is left has scalars in it; empty objects and lists alone say nothing.
        elif not kinds <= {"object"} and kinds != {"array"}:
            self.fields.scalar(place, base, table, names)

    def tuple_columns(
        self,
        place: Place,
        base: Place,
        table: DraftTable | None,
        names: tuple[str, ...],
    ) -> None:
        """The elements of an array whose positions mean something, each a column."""
        # Words for the columns of a named array hold its name already.
        above = names[:-1] if place.step is not None else names
        for words, column in zip(column_names(place), place.columns, strict=True):
            self.node(column, base, table, (*above, *words))

    def container(
        self,
        place: Place,
        base: Place,
        table: DraftTable | None,
        names: tuple[str, ...],
        *,
        within: Place | None = None,
    ) -> None:
        """A list, or an object whose member names are data: a table, or a field with a list; or a
        field with all of it, and of the list `within` which it stands.
        """
        inner = place.members or place.elements
        assert inner is not None
        # Where a wrapper holds it alone, that one is what is named or ignored.
        whole = within or place
        if holds_lists_or_maps(place, inner):
            self.nested(place, inner, base, table, names, whole)
        elif are_rows(place, inner):
            self.table(inner, base, path(inner, base), table, names, of=place)
        elif inner.columns or place.header:
            self.table_of_arrays(place, inner, base, table, names)
        # A long list of scalars at the top is the data itself: a row each.
        elif inner.values.count and table is None and is_long(place):
            self.table(inner, base, path(inner, base), table, names, of=place)
        # Nothing around it whose field it could be, or nothing in it.
        elif table is None or not inner.nodes:
            self.fields.ignore(whole, self.fields.words_for(whole))
        elif are_scalars(inner):
            self.fields.list_field(inner, base, table, names)
        else:
            self.fields.whole(whole, base, table, names)

    def nested(
        self,
        place: Place,
        inner: Place,
        base: Place,
        table: DraftTable | None,
        names: tuple[str, ...],
        within: Place,
    ) -> None:
        """Lists of lists are one list of what is in them; names that are data are a table of their
        own, and what is below each of them is within that.
        """
        if place.members is None:
            self.container(inner, base, table, names, within=within)
            return
        of_one = singular(names[-1]) if names else ""
        name = f"{of_one}_{names_reading(place)[0]}s"
        outer = self.new_table(path(inner, base), table, (*names[:-1], name), {})
        self.named(outer, place)
        self.container(inner, inner, outer, names)

    def table(
        self,
        inner: Place,
        base: Place,
        rows: JsonValue,
        parent: DraftTable | None,
        names: Sequence[str],
        *,
        of: Place | None = None,
        options: dict[str, JsonValue] | None = None,
        leaving: frozenset[str] = frozenset(),
    ) -> DraftTable:
        """A table of the nodes at a place, which are elements or members of another one (`of`),
        without the members that are left to other tables (`leaving`).
        """
        if of is not None and of.members is None and not options:
            sorts = sorts_apart(self.report(inner))
            # Records of several sorts would share no column but the one that tells them apart.
            if sorts is not None:
                return self.tables_by_sort(sorts, inner, base, rows, parent, names, of)
        table = self.new_table(rows, parent, names, options or {})
        if of is not None:
            self.shaped(table, inner, base, of)
        if inner.objects:
            self.record(table, inner, of, leaving)
        else:
            name = singular(names[-1])
            # Elements that are scalars have no name but that of their list.
            taken = snake_case(name) in self.fields.taken(table)
            self.fields.scalar(inner, inner, table, ("value" if taken else name,))
        if "recurse" in table.options:
            self.fields.point_upwards(table)
        self.fields.finish(table)
        return table

    def record(
        self,
        table: DraftTable,
        inner: Place,
        of: Place | None,
        leaving: frozenset[str],
    ) -> None:
        """The key and the fields of a table whose rows are objects."""
        put_together = "spread" in table.options and of is not None and of.members
        # Lists that are put together may hold the same key twice.
        if not put_together:
            self.keys.give_key(inner, table)
        self.object(inner, inner, table, (), leaving=leaving)
        for step, child in alone_in_objects(inner, of).items():
            self.node(child, child.parent or inner, table, (step,))

    def shaped(self, table: DraftTable, inner: Place, base: Place, of: Place) -> None:
        """What a table needs beside the path to its rows, since these stand under names, now and
        then alone, or below each other.
        """
        if of.members is not None:
            self.named(table, of)
            lists = inner.elements
            # Two lists under two names may hold one record: keys would refuse the second.
            if inner.objects and lists is not None and lists.objects:
                table.options["spread"], table.key = True, []
        elif of.objects and of.count("array"):
            table.options["spread"] = True
            table.rows = path(of, base)
        below = _rows_below(inner, of)
        if below is not None:
            table.options["recurse"] = below

    def tables_by_sort(
        self,
        sorts: Sorts,
        inner: Place,
        base: Place,
        rows: JsonValue,
        parent: DraftTable | None,
        names: Sequence[str],
        of: Place | None,
    ) -> DraftTable:
        """A table for each sort of record, told by a member; gives the first one."""
        told = frozenset(name for sort in sorts.sorts for name in sort.members)
        at = path_text((child_segment(Name(sorts.member)),))
        tables = []
        for sort in sorts.sorts:
            when = f"{at.replace('$', '@', 1)} == {json_text(sort.word)}"
            table = self.table(
                inner,
                base,
                rows,
                parent,
                (*names[:-1], f"{sort.word} {names[-1]}"),
                of=of,
                options={"when": when},
                leaving=told - frozenset(sort.members),
            )
            tables.append(table)
            for field in table.fields:
                # Within a sort it is a constant, and the draft says so.
                if field.source.get("at") == at:
                    field.note = f"always {sort.word}"
        apart = f"those of another {sorts.member} are in no table"
        tables[0].comment = f"records of {len(tables)} sorts; {apart}"
        return tables[0]

    def named(self, table: DraftTable, of: Place) -> None:
        """A table of what stands under names that are data: the names are a field, typed where they
        are all days.
        """
        taken = self.fields.taken(table)
        name, reading = names_reading(of)
        whole = f"{singular(table.name.removesuffix(f'_{name}s'))}_{name}"
        # `date` or `year` says all; `code` wants the word of what it is one of.
        short = reading and name not in taken
        field = DraftField(
            fresh(name if short else whole, taken), {"fact": "name"}, reading
        )
        field.note = _names_note(of)
        table.fields.append(field)
        table.rows = re.sub(r"\[\*\]$", ".*", str(table.rows))
        self.keys.own_key(table, field, alone=of.nodes == 1)

    def new_table(
        self,
        rows: JsonValue,
        parent: DraftTable | None,
        names: Sequence[str],
        options: dict[str, JsonValue],
    ) -> DraftTable:
        """An empty table that inherits the key of its parent."""
        name = self.table_name(parent, names)
        table = DraftTable(name, rows, parent, options)
        if parent is not None:
            table.inherit = list(parent.handed_down)
        # Without it the rows of one day could not be told from those of the next.
        elif self.moment is not None:
            table.inherit = [self.moment.name]
        self.draft.tables.append(table)
        return table

    def table_name(self, parent: DraftTable | None, names: Sequence[str]) -> str:
        """The last of the members that lead to the rows which says something, and those above where
        that name is taken.
        """
        words = list(filter(None, map(snake_case, names)))
        telling = [name for name in words if name not in GENERIC]
        # `data` says nothing, the call that was asked does.
        if not telling and self.call and parent is None:
            telling = [self.call]
        telling = telling or words or ["rows"]
        taken = {
            "response",
            *self.fields.response_names,
            *self.fields.names_of_tables(),
        }
        name = telling[-1]
        if name in taken:
            # Two lists of one name are told apart by what is above them.
            above = parent.name if parent else "_".join(telling[:-1])
            name = f"{above}_{name}".strip("_")
        return fresh(name, taken)

    # ---- rows that are more than nodes

    def side_by_side(
        self,
        place: Place,
        base: Place,
        table: DraftTable | None,
        names: tuple[str, ...],
    ) -> set[str]:
        """Tables of parallel arrays, and of rows with their column names beside them; gives the
        members they take.
        """
        report = self.report(place)
        taken: set[str] = set()
        for pair in report.parallel:
            if place.children.keys() >= {*pair}:
                taken |= {*pair}
        if taken:
            lists = _named_columns(place, taken)
            self.zipped(lists, base, table, names or ("series",))
        for headed in report.headed:
            members = {headed.rows, headed.names}
            # A list that is a column of parallel arrays can't be a header, too.
            if members <= place.children.keys() and not members & taken:
                taken |= members
                self.headed_rows(place, headed, base, table, names)
        return taken

    def headed_rows(
        self,
        place: Place,
        headed: Headed,
        base: Place,
        table: DraftTable | None,
        names: tuple[str, ...],
    ) -> None:
        """A table of arrays, with its column names out of the list beside it."""
        rows = place.children[headed.rows]
        header = place.children[headed.names]
        assert rows.elements is not None
        assert header.elements is not None
        # The names stand in objects that describe the columns.
        if headed.within is not None:
            header = header.elements.children[headed.within]
        own_names = (*names, headed.rows)
        self.table_of_arrays(rows, rows.elements, base, table, own_names, header=header)

    def zipped(
        self,
        lists: dict[str, Place],
        base: Place,
        parent: DraftTable | None,
        names: tuple[str, ...],
    ) -> None:
        inner = {name: place.elements for name, place in lists.items()}
        paths: JsonValue = {
            name: path(elements, base)
            for name, elements in inner.items()
            if elements is not None
        }
        table = self.new_table({"zip": paths}, parent, names, {})
        for name, elements in inner.items():
            if elements is not None:
                # The list has the name of many, the field of one.
                self.fields.field(
                    table, self.report(elements), singular(name), {"at": f"$.{name}"}
                )
        self.fields.finish(table)

    def table_of_arrays(
        self,
        place: Place,
        inner: Place,
        base: Place,
        parent: DraftTable | None,
        names: tuple[str, ...],
        *,
        header: Place | None = None,
    ) -> None:
        """A table whose rows are arrays: with the names of its columns, where they are known."""
        table = self.new_table(path(inner, base), parent, names, {})
        headings = _headings(place, header)
        columns = inner.columns or [inner.elements or inner] * len(headings)
        named = {
            snake_case(name): path_text((child_segment(Name(name)),))
            for name in headings
        }
        # Names that become one, or none, can't name columns.
        usable = bool(headings) and "" not in named
        if usable and len(named) == len(headings) == len(columns):
            table.options["header"] = "first" if header is None else path(header, base)
            for (name, at), column in zip(named.items(), columns, strict=True):
                self.fields.field(table, self.report(column), name, {"at": at})
        else:
            self.numbered_columns(table, inner)
            # What the header says is of no use, and is read by no rule.
            if header is not None:
                self.fields.ignore(header, self.fields.words_for(header))
        self.fields.finish(table)

    def numbered_columns(self, table: DraftTable, inner: Place) -> None:
        """Columns that nothing names, by where they stand in their array."""
        for number, column in enumerate(inner.columns):
            at = f"$[{number}]"
            name = f"column_{number + 1}"
            self.fields.field(table, self.report(column), name, {"at": at})


def sorts_apart(report: PlaceReport) -> Sorts | None:
    """The sorts of records, if each is a table of its own: each has members that others have not,
    and there are no more sorts than were looked at.
    """
    sorts = report.sorts
    # Without members of its own a sort would be a table without columns.
    if (
        sorts is None
        or not 2 <= len(sorts.sorts) <= MOST_SORTS
        or not all(sort.members for sort in sorts.sorts)
    ):
        return None
    words = report.place.children[sorts.member].values.counted
    return (
        sorts
        if words is not None and words.keys() == {sort.word for sort in sorts.sorts}
        else None
    )


def alone_in_objects(inner: Place, of: Place | None) -> dict[str, Place]:
    """Where records stand in lists, and now and then alone: the members that only one of the two
    has.
    """
    # One side is the object itself, the other the elements of the list that it is at other times.
    lists = inner.elements
    if inner.objects and lists is not None and lists.objects:
        return _members_beyond(inner, lists)
    if of is not None and of.objects and of.elements is inner:
        return _members_beyond(inner, of)
    return {}


def _members_beyond(known: Place, other: Place) -> dict[str, Place]:
    return {
        step: child
        for step, child in other.children.items()
        if step not in known.children
    }


def _names_note(of: Place) -> str | None:
    return (
        f"e.g. {shortened(str(of.names.examples[0]), 40)}"
        if of.names.examples
        else None
    )


def _headings(place: Place, header: Place | None) -> Sequence[str]:
    """The names of the columns of rows that are arrays, in a list beside them or in the first row;
    empty where nothing names them.
    """
    if header is None:
        return place.header or ()
    names = (header.elements or header).values.counted or ()
    return [str(name) for name in names]


def _named_columns(place: Place, members: set[str]) -> dict[str, Place]:
    """Parallel arrays by names for their columns, in the order in which they stand."""
    # A name without letters is none in snake case: its column is numbered.
    names = {
        step: snake_case(step) or f"list_{number}"
        for number, step in enumerate(sorted(members))
    }
    return {
        names[step]: child for step, child in place.children.items() if step in members
    }


def _rows_below(inner: Place, of: Place) -> str | None:
    """The path from a row to rows of the same table below it, where records hold their like."""
    if of.recursive and of.step is not None:
        return path_text(inner.segments()[len(of.segments()) - 1 :])
    tree = holds_itself(of, inner)
    if tree is not None and tree.elements is not None:
        return path(tree.elements, inner)
    return None
