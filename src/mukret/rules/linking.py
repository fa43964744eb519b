"""From drafts of fields to fields: expressions typed and lookups resolved, over all tables at once.

A field may need fields of other tables (inherited ones, those that a lookup takes), so all fields
of all tables are put in one order in which each finds what it needs.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from mukret.codes import Code
from mukret.errors import ExpressionError
from mukret.expressions import (
    Expression,
    aggregates_in,
    compile_expression,
    converted,
    names_in,
)
from mukret.expressions.families import castable, comparable, equal_form
from mukret.expressions.tree import null_of
from mukret.rules.fields import FieldDraft, LookupDraft, typed_scalar
from mukret.rules.graph import needed
from mukret.rules.model import RESPONSE, Field, Inherited
from mukret.rules.ordering import after_what_they_need
from mukret.rules.reader import Reader
from mukret.rules.reference import Reference
from mukret.rules.source import Mapping as MappingNode
from mukret.rules.source import Scalar
from mukret.rules.sources import (
    NOTHING,
    Compute,
    ConstantValue,
    Lookup,
    ParentField,
    Reads,
    ValueSource,
)
from mukret.rules.typing import TypeNames
from mukret.text import did_you_mean
from mukret.types import Text, TypeSpec, ValueType

# A field: its table (or RESPONSE) and its name.
Name = tuple[str, str]


@dataclass
class TableDraft:
    """A table (or the response) whose fields are not linked yet.

    `inherit`: name → origin of the fields that it has from above. `declared`: all names that the
    file gives fields here, those of broken ones included, which are not reported as unknown a
    second time.
    """

    name: str
    drafts: dict[str, FieldDraft]
    declared: frozenset[str]
    within: str | None = None
    inherit: dict[str, str] = field(default_factory=dict)
    key: list[Scalar] = field(default_factory=list)
    recursive: bool = False

    @property
    def names(self) -> list[str]:
        return [*self.inherit, *self.drafts]


class Linker:
    """Links all fields.

    Afterwards `fields` and `inherited` hold the sound ones, `visible` their types by table.
    """

    def __init__(
        self,
        reader: Reader,
        types: TypeNames,
        tables: Mapping[str, TableDraft],
        references: Mapping[str, Reference | None],
        broken: frozenset[str],
    ) -> None:
        self.reader = reader
        self.types = types
        self.tables = tables
        self.references = references
        # Names of tables that the file has, but that can't be read.
        self.broken = broken
        self.fields: dict[Name, Field] = {}
        self.inherited: dict[Name, Inherited] = {}
        self.visible: dict[str, dict[str, ValueType]] = {name: {} for name in tables}

    def link(self) -> None:
        everything = [
            (table.name, name) for table in self.tables.values() for name in table.names
        ]
        order, cycles = after_what_they_need(everything, self.needs)
        for cycle in cycles:
            self.cycle(cycle)
        for item in order:
            self.link_field(item)

    def link_field(self, item: Name) -> None:
        table, name = item
        origin = self.tables[table].inherit.get(name)
        if origin is not None:
            above = self.fields.get((origin, name))
            if above is not None:
                self.inherited[item] = Inherited(name, origin, above)
                self.visible[table][name] = above.type
            return
        draft = self.tables[table].drafts[name]
        # Without its type nothing can be said of what is made of it; its own mistake was noted.
        field = None if draft.untyped else self.made(table, draft)
        if field is not None:
            self.fields[item] = field
            self.visible[table][name] = field.type

    # ---- what needs what

    def needs(self, item: Name) -> list[Name]:
        """The fields that must be there before this one can be evaluated."""
        table, name = item
        draft_of = self.tables[table]
        if name in draft_of.inherit:
            return [(draft_of.inherit[name], name)]
        nodes = needed(table, self.reads(table, draft_of.drafts[name]))
        return [
            (other, field)
            for other, field in nodes
            # What is not there is noted when it is typed, with what was meant.
            if field in self.tables[other].names
        ]

    def reads(self, table: str, draft: FieldDraft) -> Reads:
        """What the field will read, as far as that can be told before anything is typed."""
        if draft.lookup is not None:
            return self.lookup_reads(draft.lookup)
        if draft.above is not None:
            return Reads(above=(draft.above.text,))
        if draft.expression is None:
            return NOTHING
        try:
            names = names_in(draft.expression.text)
            aggregates = aggregates_in(draft.expression.text)
        except ExpressionError:
            return NOTHING  # noted when it is typed
        rows: dict[str, tuple[str, ...]] = {}
        for child, taken in aggregates:
            if taken is not None and child in self.children(table):
                rows[child] = (*rows.get(child, ()), taken)
        return Reads(fields=tuple(name for name, _ in names), rows=rows)

    def lookup_reads(self, lookup: LookupDraft) -> Reads:
        """Fields of the row, and the key and a field of each row of the other table."""
        by = tuple(scalar.text for scalar in lookup.by)
        target = self.tables.get(lookup.into.text)
        # A reference, which is a file and no table, or a table that is not there, which is noted.
        if target is None:
            return Reads(fields=by)
        key = tuple(scalar.text for scalar in target.key)
        return Reads(fields=by, rows={target.name: (*key, lookup.give.text)})

    def children(self, table: str) -> dict[str, dict[str, ValueType]]:
        """The types of the fields of the tables directly within one, those of the document within
        the response.
        """
        within = None if table == RESPONSE else table
        return {
            name: self.visible[name]
            for name, draft in self.tables.items()
            if draft.within == within and name != RESPONSE
        }

    def cycle(self, cycle: list[Name]) -> None:
        tables = {table for table, _ in cycle}
        names = [f"{table}.{name}" for table, name in cycle]
        if len(tables) == 1:
            names = [name for _, name in cycle]
        draft = next(
            self.tables[table].drafts[name]
            for table, name in cycle
            if name in self.tables[table].drafts
        )
        # At the part of the field that makes the circle, as far as it has one.
        where = (
            draft.expression
            or draft.above
            or (draft.lookup.into if draft.lookup else draft.key)
        )
        self.reader.add(
            Code.CYCLE, f"fields that need each other: {' → '.join(names)}", where
        )

    # ---- one field

    def made(self, table: str, draft: FieldDraft) -> Field | None:
        if draft.expression is not None:
            return self.computed(table, draft, draft.expression)
        if draft.lookup is not None:
            return self.looked_up(table, draft)
        if draft.above is not None:
            return self.from_above(table, draft, draft.above)
        source, reading = draft.source, draft.reading
        assert reading is not None
        # A constant is read by the type, as a value of a response would be: `constant: 1.5` of an
        # integer is a mistake.
        if isinstance(source, ConstantValue):
            assert isinstance(source.value, Scalar)
            source = ConstantValue(
                typed_scalar(
                    self.reader, source.value, reading, f"constant of {draft.name}"
                )
            )
        assert source is not None
        return self.field(draft, source, reading)

    def field(self, draft: FieldDraft, source: ValueSource, reading: TypeSpec) -> Field:
        # Read by the type of the field, as the values beside it are.
        default = None
        if draft.default is not None:
            default = typed_scalar(
                self.reader, draft.default, reading, f"default of {draft.name}"
            )
        return Field(
            draft.name,
            source,
            reading,
            draft.required,
            default,
            draft.bad,
            draft.keep,
            draft.note,
            draft.measured_in,
            draft.title,
            draft.key.source.name,
            draft.key.line,
            draft.key.column,
        )

    def computed(self, table: str, draft: FieldDraft, scalar: Scalar) -> Field | None:
        expression = self.typed(table, scalar, f"compute of {draft.name}")
        if expression is None:
            return None
        kind = expression.type or Text()
        reading = draft.reading or TypeSpec(kind)
        if expression.type is not None and not castable(kind, reading.type):
            message = (
                f"compute of {draft.name} gives {kind.name}, which can't become "
                f"{reading.type.name}"
            )
            self.reader.add(Code.EXPRESSION_TYPE, message, scalar)
            return None
        # An expression that is null alone has no type to be converted from.
        finished = (
            converted(expression, reading)
            if expression.type is not None
            else null_of(reading.type)
        )
        return self.field(draft, Compute(scalar.text, finished), reading)

    def typed(self, table: str, scalar: Scalar, what: str) -> Expression | None:
        visible = self.visible[table]
        try:
            unknown = [
                (name, at) for name, at in names_in(scalar.text) if name not in visible
            ]
            if not unknown:
                return compile_expression(
                    scalar.text, visible, self.types.reading, self.children(table)
                )
            for name, at in unknown:
                if (
                    name not in self.tables[table].declared
                ):  # one that is broken has its own line in the report
                    self.unknown(table, name, at, scalar, what)
        except ExpressionError as error:
            self.reader.positioned(error, scalar, what)
        return None

    def unknown(
        self, table: str, name: str, at: int, scalar: Scalar, what: str
    ) -> None:
        hint = did_you_mean(name, self.known(table))
        if not scalar.plain and scalar.text.strip() == name:
            hint = f"if a text was meant, YAML took its quotes: write \"'{name}'\""
        self.reader.add(
            Code.UNKNOWN_FIELD, f"{what}: no field {name}", scalar, hint, at
        )

    def known(self, table: str) -> list[str]:
        """The names that a field of this table can have, for hints."""
        draft = self.tables[table]
        return list(dict.fromkeys((*draft.names, *sorted(draft.declared))))

    def type_of(self, table: str, scalar: Scalar, what: str) -> ValueType | None:
        """The type of a field that is named; None if it is not there, which is noted unless it is
        broken.
        """
        kind = self.visible[table].get(scalar.text)
        # A broken field was noted where it stands: a second message would only lead away from it.
        if kind is None and scalar.text not in self.tables[table].declared:
            hint = did_you_mean(scalar.text, self.known(table))
            self.reader.add(
                Code.UNKNOWN_FIELD,
                f"{what}: no field {scalar.text} in {table}",
                scalar,
                hint,
            )
        return kind

    # ---- fields of other rows

    def from_above(self, table: str, draft: FieldDraft, scalar: Scalar) -> Field | None:
        # In any other table the row above is of another one, and has other fields.
        if not self.tables[table].recursive:
            message = (
                f"{draft.name}: there is a row above only in a table that recurses"
            )
            self.reader.add(
                Code.WRONG_OPTION,
                message,
                scalar,
                "fields of the table that it is within come by inherit",
            )
            return None
        kind = self.type_of(table, scalar, f"parent of {draft.name}")
        return (
            self.field(draft, ParentField(scalar.text), TypeSpec(kind))
            if kind is not None
            else None
        )

    def looked_up(self, table: str, draft: FieldDraft) -> Field | None:
        assert draft.lookup is not None
        into, what = draft.lookup.into, f"lookup of {draft.name}"
        local = [self.type_of(table, scalar, what) for scalar in draft.lookup.by]
        if into.text in self.references:
            return self.from_reference(draft, self.references[into.text], local)
        if into.text not in self.tables or into.text == RESPONSE:
            known = [
                name for name in (*self.tables, *self.references) if name != RESPONSE
            ]
            # A table that is itself broken exists: that it can't be read was noted where it stands.
            if into.text not in self.broken:
                self.reader.add(
                    Code.UNKNOWN_TABLE,
                    f"{what}: no table {into.text}",
                    into,
                    did_you_mean(into.text, known),
                )
            return None
        return self.from_table(draft, self.tables[into.text], local)

    def from_table(
        self, draft: FieldDraft, target: TableDraft, local: list[ValueType | None]
    ) -> Field | None:
        assert draft.lookup is not None
        what = f"lookup of {draft.name}"
        taken = self.type_of(target.name, draft.lookup.give, what)
        key = tuple(scalar.text for scalar in target.key)
        if not self.lengths_agree(draft, f"the table {target.name}", key):
            return None
        forms = []
        for scalar, local_type, name in zip(draft.lookup.by, local, key, strict=True):
            other = self.visible[target.name].get(name)
            if local_type is None or other is None:
                return None
            if not comparable(local_type, other):
                message = (
                    f"{what}: {scalar.text} is {local_type.name}, but {target.name}.{name} is "
                    f"{other.name}"
                )
                self.reader.add(
                    Code.EXPRESSION_TYPE,
                    message,
                    scalar,
                    "give both fields the same type",
                )
                return None
            # Keys of different types are compared in a form that both have: an integer and a
            # decimal as numbers.
            forms.append(equal_form(local_type, other))
        if taken is None:
            return None
        by = tuple(scalar.text for scalar in draft.lookup.by)
        lookup = Lookup(
            target.name,
            target.name,
            by,
            key,
            draft.lookup.give.text,
            tuple(forms),
            draft.lookup.across_run,
        )
        return self.field(draft, lookup, TypeSpec(taken))

    def from_reference(
        self,
        draft: FieldDraft,
        reference: Reference | None,
        local: list[ValueType | None],
    ) -> Field | None:
        """`reference` is None where it is broken, which has its own line in the report."""
        assert draft.lookup is not None
        if reference is None or not self.lengths_agree(
            draft, f"the reference {reference.name}", reference.key
        ):
            return None
        give = draft.lookup.give
        if give.text not in reference.columns:
            message = (
                f"lookup of {draft.name}: no column {give.text} in {reference.name}"
            )
            self.reader.add(
                Code.UNKNOWN_FIELD,
                message,
                give,
                did_you_mean(give.text, reference.columns),
            )
            return None
        # Cells of a reference are texts, and are read as what they are compared with.
        types = [kind for kind in local if kind is not None]
        if len(types) < len(local):
            return None
        answers = reference.answers(types, give.text)
        by = tuple(scalar.text for scalar in draft.lookup.by)
        if draft.lookup.across_run:
            message = (
                f"lookup of {draft.name}: a reference is the same for the whole run"
            )
            self.reader.add(
                Code.WRONG_OPTION,
                message,
                draft.lookup.body.key("across"),
                "take across away",
            )
        lookup = Lookup(
            reference.name,
            None,
            by,
            reference.key,
            give.text,
            (None,) * len(by),
            answers=answers,
        )
        return self.field(draft, lookup, TypeSpec(Text()))

    def lengths_agree(self, draft: FieldDraft, what: str, key: tuple[str, ...]) -> bool:
        assert draft.lookup is not None
        body: MappingNode = draft.lookup.body
        # Without a key several rows could be meant, and the first would win by chance.
        if not key:
            message = f"lookup of {draft.name}: {what} has no key"
            self.reader.add(
                Code.MISSING_KEY,
                message,
                draft.lookup.into,
                "say which fields identify its rows: key",
            )
        elif len(key) != len(draft.lookup.by):
            message = (
                f"lookup of {draft.name}: the key of {what.removeprefix('the ')} is "
                f"{', '.join(key)}"
            )
            hint = (
                f"by names {len(draft.lookup.by)} of {len(key)} fields"
                if len(key) > 1
                else "by names one field"
            )
            self.reader.add(Code.WRONG_VALUE, message, body.key("by"), hint)
        return bool(key) and len(key) == len(draft.lookup.by)
