"""The section `tables`, and the fields of the section `response`."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from collections.abc import Mapping as MappingType
from dataclasses import dataclass, replace
from typing import cast

from mukret.codes import Code
from mukret.expressions.tree import Expression, null_of
from mukret.paths import Path
from mukret.rules.fields import FieldDraft, FieldReader
from mukret.rules.graph import FieldGraph
from mukret.rules.linking import Linker, TableDraft
from mukret.rules.model import (
    RESPONSE,
    Duplicates,
    Embedded,
    Field,
    Policy,
    ResponseKind,
    Step,
    Table,
)
from mukret.rules.ordering import after_what_they_need
from mukret.rules.reader import Reader, keys
from mukret.rules.reference import Reference
from mukret.rules.response import ResponseReader
from mukret.rules.row_rules import read_rows, touched_names
from mukret.rules.rows import RowRules
from mukret.rules.schedule import make_schedule
from mukret.rules.source import Mapping, Node, Scalar
from mukret.rules.source import Sequence as SequenceNode
from mukret.rules.sources import Fact, Rest
from mukret.rules.typing import TypeNames, policy
from mukret.text import did_you_mean, nearest
from mukret.types import Boolean, Json, TypeSpec

TABLE_KEYS = keys(
    "rows when spread outer header recurse within inherit kind key duplicates where bad rest "
    "fields omit note"
)


@dataclass
class _Body:
    """A table as it stands in the file, and what was read of it so far."""

    key: Scalar
    body: Mapping
    draft: TableDraft
    rows: RowRules


class TablesReader:
    """Reads what becomes rows and fields; `response`, `embedded`, `kinds` and `ignore` are of the
    response.
    """

    def __init__(
        self,
        reader: Reader,
        types: TypeNames,
        references: MappingType[str, Reference | None],
    ) -> None:
        self.reader = reader
        self.types = types
        self.references = references
        # Names of all tables, those of broken ones included.
        self.named: frozenset[str] = frozenset()
        self.bodies: dict[str, _Body] = {}
        self.drafts: dict[str, TableDraft] = {}
        self.tables: dict[str, Table] = {}
        self.response: tuple[Field, ...] = ()
        self.embedded: tuple[Embedded, ...] = ()
        self.kinds: dict[str, ResponseKind] = {}
        self.ignore: tuple[Path, ...] = ()
        self.must_have: tuple[Path, ...] = ()

    def all_names(self) -> frozenset[str]:
        """The names of all tables and fields that the file has, sound or not."""
        return self.named.union(*(draft.declared for draft in self.drafts.values()))

    def schedule(self) -> tuple[Step, ...]:
        """The steps in which the fields of all tables are evaluated."""
        inherited = {name: table.inherit for name, table in self.tables.items()}
        fields = {
            RESPONSE: self.response,
            **{name: table.fields for name, table in self.tables.items()},
        }
        conditions = {
            name: table.where
            for name, table in self.tables.items()
            if table.where is not None
        }
        # All tables in one order: a field may hang on rows of any other.
        return make_schedule(FieldGraph(fields, inherited, conditions))

    # ---- response

    def read_response(self, node: Node | None) -> None:
        response = ResponseReader(self.reader)
        body = response.read(node)
        self.embedded, self.kinds, self.ignore = (
            response.embedded,
            response.kinds,
            response.ignore,
        )
        self.must_have = response.must_have
        section = (
            self.reader.mapping(body.get("fields"), "response.fields") if body else None
        )
        drafts = self.fields(section, self.types.default_policy)
        for draft in drafts:
            # The response is no row: it has no position and nothing above it.
            if draft.above or (isinstance(draft.source, Fact) and draft.source.of_row):
                self.reader.add(
                    Code.WRONG_VALUE,
                    "a fact of a row has no place in response.fields",
                    draft.key,
                )
        self.drafts[RESPONSE] = TableDraft(
            RESPONSE,
            {draft.name: draft for draft in drafts if draft.above is None},
            frozenset(section.entries) if section else frozenset(),
        )

    def fields(self, section: Mapping | None, bad: Policy) -> list[FieldDraft]:
        if section is None:
            return []
        self.reader.distinct([key for key, _ in section.entries.values()], "fields")
        fields = FieldReader(self.reader, self.types, bad)
        drafts = []
        for key, node in section.entries.values():
            self.reader.name(key, "a field")
            # Noted as an empty key, with the others of the file.
            if isinstance(node, Scalar) and node.empty:
                continue
            draft = fields.read(key, node)
            if draft is not None:
                drafts.append(draft)
        return drafts

    # ---- tables

    def read_tables(self, node: Node | None, root: Mapping) -> dict[str, Table]:
        section = self.reader.mapping(node, "tables")
        if section is None or not section.entries:
            # A section that is no mapping has been noted as that.
            if "tables" not in root.entries or section is not None:
                self.reader.add(
                    Code.MISSING_KEY,
                    "a rules file has at least one table",
                    root,
                    "tables: {sailings: {rows: …, fields: …}}",
                )
            return {}
        self.named = frozenset(section.entries)
        self.reader.distinct([key for key, _ in section.entries.values()], "tables")
        bodies = self.read_bodies(section)
        # Parents first: what a table inherits is looked for in drafts that are there already.
        for name in self.parents_first(bodies):
            self.read_table(name, *bodies[name])
        self.link()
        return {
            name: self.tables[name] for name in section.entries if name in self.tables
        }

    def read_bodies(self, section: Mapping) -> dict[str, tuple[Scalar, Mapping]]:
        """The name of each table, as it stands in the file, and its mapping."""
        bodies: dict[str, tuple[Scalar, Mapping]] = {}
        for name, (key, value) in section.entries.items():
            self.reader.name(key, "a table")
            # A lookup names either, and could not tell them apart.
            if name in self.references:
                self.reader.add(
                    Code.NAME_CLASH,
                    f"{name} is already the name of a reference",
                    key,
                    "rename one of them",
                )
            body = self.reader.mapping(value, f"the table {name}", TABLE_KEYS)
            if body is not None:
                bodies[name] = (key, body)
        return bodies

    def parents_first(
        self, bodies: MappingType[str, tuple[Scalar, Mapping]]
    ) -> list[str]:
        """The tables, each after the one that it is within; those that are within each other are
        left out.
        """
        self.parents = {
            name: self.parent(body, bodies) for name, (_, body) in bodies.items()
        }

        def above(name: str) -> Sequence[str]:
            parent = self.parents[name]
            return [parent] if parent in bodies and parent is not None else []

        order, cycles = after_what_they_need(bodies, above)
        for cycle in cycles:
            self.reader.add(
                Code.CYCLE,
                f"tables within each other: {' → '.join(cycle)}",
                bodies[cycle[0]][0],
            )
        # Tables within one that is lost are lost with it, without a line of their own.
        lost = {name for cycle in cycles for name in cycle}
        for name in order:
            lost |= {name} if self.parents[name] in lost else set()
        return [name for name in order if name not in lost]

    def parent(self, body: Mapping, bodies: Iterable[str]) -> str | None:
        scalar = self.reader.scalar(body.get("within"), "within")
        if scalar is None:
            return None
        if scalar.text not in bodies:
            self.reader.add(
                Code.UNKNOWN_TABLE,
                f"no table {scalar.text}",
                scalar,
                did_you_mean(scalar.text, bodies),
            )
        # Given all the same: what is below it is read on, so that all problems are told at once.
        return scalar.text

    def read_table(self, name: str, key: Scalar, body: Mapping) -> None:
        """Everything that can be said before the fields are linked."""
        within = self.parents[name]
        bad = policy(self.reader, body.get("bad")) or self.types.default_policy
        section = self.reader.mapping(body.get("fields"), f"fields of {name}")
        if "fields" not in body.entries:
            self.reader.add(
                Code.MISSING_KEY,
                f"the table {name} has no fields",
                key,
                "fields: {name: $.path}",
            )
        if "omit" in body.entries:
            message = (
                "omit takes away fields that an included file gave this table; none did"
            )
            self.reader.add(
                Code.WRONG_OPTION,
                message,
                body.key("omit"),
                "take the field away where it stands",
            )
        drafts = {draft.name: draft for draft in self.fields(section, bad)}
        rest = self.rest(name, body, drafts)
        if rest is not None:
            drafts[rest.name] = rest
        inherit = self.inherit(name, body, within)
        declared = (
            frozenset(section.entries if section else ())
            | frozenset(self.names_asked(body))
            | frozenset(drafts)
        )
        rows = read_rows(self.reader, name, body)
        # What others ask of a table before its fields have types: names, key, parent.
        draft = TableDraft(
            name,
            drafts,
            declared,
            within,
            inherit,
            self.reader.scalars(body.get("key"), "key"),
            rows.recurse is not None,
        )
        self.drafts[name] = draft
        self.bodies[name] = _Body(key, body, draft, rows)
        self.clashes(draft, body)

    def rest(
        self, name: str, body: Mapping, drafts: MappingType[str, FieldDraft]
    ) -> FieldDraft | None:
        scalar = self.reader.scalar(body.get("rest"), f"rest of {name}")
        if scalar is None or not self.reader.name(scalar, "a field"):
            return None
        if scalar.text in drafts:
            message = f"rest of {name}: there is a field {scalar.text}"
            self.reader.add(Code.NAME_CLASH, message, scalar, "rename one of them")
            return None
        return FieldDraft(scalar.text, scalar, Rest(frozenset()), TypeSpec(Json()))

    def link(self) -> None:
        rows = {
            name: (body.draft.within, body.rows) for name, body in self.bodies.items()
        }
        for name, body in self.bodies.items():
            for draft in body.draft.drafts.values():
                # What is left over is known once all tables have said what they read.
                if isinstance(draft.source, Rest):
                    draft.source = Rest(touched_names(name, rows, self.paths_of))
        linker = Linker(
            self.reader,
            self.types,
            self.drafts,
            self.references,
            self.named - frozenset(self.bodies),
        )
        linker.link()
        self.response = self.linked(RESPONSE, linker)
        for body in self.bodies.values():
            self.finish(body, linker)

    def paths_of(self, name: str) -> list[Path]:
        sources = [draft.source for draft in self.drafts[name].drafts.values()]
        return [
            path
            for source in sources
            if source is not None
            for path in source.reads.paths
        ]

    def linked(self, name: str, linker: Linker) -> tuple[Field, ...]:
        return tuple(
            linker.fields[name, name_of_field]
            for name_of_field in self.drafts[name].drafts
            if (name, name_of_field) in linker.fields
        )

    def finish(self, body: _Body, linker: Linker) -> None:
        name, draft = body.draft.name, body.draft
        where_scalar = self.reader.scalar(body.body.get("where"), f"where of {name}")
        where = self.condition(name, where_scalar, linker)
        duplicates = self.reader.choice(
            body.body.get("duplicates"), "duplicates", ("reject", "first", "last")
        )
        # Broken fields are left out, and noted: everything else is still worth checking.
        inherited = [
            linker.inherited[name, item]
            for item in draft.inherit
            if (name, item) in linker.inherited
        ]
        table = Table(
            name,
            body.rows,
            draft.within,
            tuple(inherited),
            self.linked(name, linker),
            self.key(body, linker),
            cast(Duplicates, duplicates or "reject"),
            where,
            where_scalar.text if where_scalar else None,
            self.kind(body),
            self.reader.text(body.body.get("note"), "note"),
            body.key.source.name,
            body.key.line,
            body.key.column,
        )
        self.tables[name] = replace(
            table, rows=replace(table.rows, judges_shape=table.judges_shape)
        )

    def condition(
        self, table: str, where_scalar: Scalar | None, linker: Linker
    ) -> Expression | None:
        """The condition that rows are kept by; None if there is none, or a broken one, which has
        been noted.
        """
        if where_scalar is None:
            return None
        where = linker.typed(table, where_scalar, f"where of {table}")
        if where is None:
            return None
        # A lone NULL has no type; as a condition it is one that no row meets.
        if where.type is None:
            return null_of(Boolean())
        if not isinstance(where.type, Boolean):
            self.reader.add(
                Code.EXPRESSION_TYPE,
                f"where of {table} wants a condition, but this is {where.type.name}",
                where_scalar,
            )
        return where

    def key(self, body: _Body, linker: Linker) -> tuple[str, ...]:
        name, visible = body.draft.name, linker.visible[body.draft.name]
        for scalar in body.draft.key:
            # A field that was declared and could not be read has its line already.
            if scalar.text not in visible and scalar.text not in body.draft.declared:
                hint = did_you_mean(scalar.text, visible)
                self.reader.add(
                    Code.UNKNOWN_FIELD,
                    f"key of {name}: no field {scalar.text}",
                    scalar,
                    hint,
                )
        if "duplicates" in body.body.entries and "key" not in body.body.entries:
            key = body.body.key("duplicates")
            self.reader.add(
                Code.MISSING_KEY,
                f"duplicates of {name} needs a key",
                key,
                "say key as well",
            )
        return tuple(scalar.text for scalar in body.draft.key if scalar.text in visible)

    def kind(self, body: _Body) -> str | None:
        """The kind of response that a table reads:
        its own or that of the table that it is within.
        """
        scalar = self.reader.scalar(body.body.get("kind"), f"kind of {body.draft.name}")
        parent = self.tables.get(body.draft.within or "")
        kind_above = parent.kind if parent else None
        if scalar is None:
            return kind_above
        if scalar.text not in self.kinds and not self.of_call(scalar):
            hint = (
                did_you_mean(scalar.text, self.kinds)
                or "kinds stand in response: {kinds: {NAME: {files: …}}}"
            )
            self.reader.add(Code.WRONG_VALUE, f"no kind {scalar.text}", scalar, hint)
            return scalar.text
        # The parent may have been left out for a mistake: it is within it all the same.
        within = body.draft.within
        if within in self.bodies and scalar.text != kind_above:
            message = (
                f"{body.draft.name} is within {within}, which reads "
                f"{kind_above or 'every kind'}"
            )
            self.reader.add(
                Code.WRONG_VALUE, message, scalar, f"give {within} the kind"
            )
        return scalar.text

    def of_call(self, scalar: Scalar) -> bool:
        """Whether a kind that nobody described is that of the call of this name: a name that is
        like one of those that are described was meant to be that one.
        """
        described = [name for name, kind in self.kinds.items() if kind.described]
        # It was most likely meant to be that one.
        if nearest(scalar.text, described) is not None or not self.reader.name(
            scalar, "a kind"
        ):
            return False
        self.kinds[scalar.text] = ResponseKind(
            scalar.text, call=scalar.text, described=False
        )
        return True

    # ---- inherit

    def names_asked(self, body: Mapping) -> list[str]:
        node = body.get("inherit")
        items = node.items if isinstance(node, SequenceNode) else [node]
        return [item.text for item in items if isinstance(item, Scalar)]

    def inherit(self, name: str, body: Mapping, within: str | None) -> dict[str, str]:
        """Name → the nearest origin above that has a field of the name."""
        origins_of: dict[str, str] = {}
        for scalar in self.reader.scalars(body.get("inherit"), "inherit"):
            if scalar.text in origins_of:
                self.reader.add(
                    Code.NAME_TWICE, f"{name} inherits {scalar.text} twice", scalar
                )
                continue
            # From the inside to the outside: the nearest one wins, as a name in a block does.
            origins = [
                origin
                for origin in self.ancestors(within)
                if scalar.text in self.drafts[origin].drafts
            ]
            if origins:
                origins_of[scalar.text] = origins[0]
            elif scalar.text not in self.names_above(within) and (
                within is None or within in self.drafts
            ):
                self.reader.add(
                    Code.UNKNOWN_FIELD,
                    f"{name} can't inherit {scalar.text}: nothing above has it",
                    scalar,
                    did_you_mean(scalar.text, self.names_above(within)),
                )
        return origins_of

    def ancestors(self, within: str | None) -> list[str]:
        """The tables above, nearest first, then the response."""
        chain = []
        while within in self.drafts:
            chain.append(within)
            within = self.drafts[within].within
        return [*chain, RESPONSE]

    def names_above(self, within: str | None) -> list[str]:
        return sorted(
            set().union(
                *(self.drafts[origin].declared for origin in self.ancestors(within))
            )
        )

    def clashes(self, draft: TableDraft, body: Mapping) -> None:
        section = body.get("fields")
        for name in draft.inherit:
            if isinstance(section, Mapping) and name in section.entries:
                message = f"{draft.name} inherits {name} and has a field of that name"
                self.reader.add(
                    Code.NAME_CLASH, message, section.key(name), "rename the field"
                )
            elif name in draft.drafts:
                message = (
                    f"{draft.name} inherits {name}, which is also the name of its rest"
                )
                self.reader.add(
                    Code.NAME_CLASH, message, draft.drafts[name].key, "rename the rest"
                )
        # Expressions tell `sailings.fare`, a table within, from a field with a member of that name.
        above = self.bodies.get(draft.within or "")
        if above is not None and draft.name in above.draft.declared:
            field = above.draft.drafts.get(draft.name)
            message = f"the table {draft.name} and a field of {above.draft.name} have the same name"
            self.reader.add(
                Code.NAME_CLASH,
                message,
                field.key if field else above.key,
                "rename one of them",
            )
