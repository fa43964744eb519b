"""From drafts of fields to fields: expressions typed, in an order in which each finds its operands."""

from __future__ import annotations

from collections.abc import Mapping

from mukret.errors import ExpressionError
from mukret.expressions import Expression, compile_expression, converted, names_in
from mukret.expressions.families import castable
from mukret.expressions.tree import Constant as Nothing
from mukret.rules.fields import Draft, typed_scalar
from mukret.rules.model import At, Compute, Constant, Fact, Field
from mukret.rules.reader import Reader
from mukret.rules.source import Scalar
from mukret.rules.typing import TypeNames
from mukret.text import did_you_mean
from mukret.types import Reading, Text, ValueType


class Linker:
    """Links the fields of one table (or of the response).

    `declared`: all names that the file gives fields here, those of broken ones included, which are not reported as
    unknown a second time.
    """

    def __init__(
        self, reader: Reader, types: TypeNames, inherited: Mapping[str, ValueType], declared: frozenset[str]
    ) -> None:
        self.reader = reader
        self.types = types
        self.visible: dict[str, ValueType] = dict(inherited)
        self.declared = declared

    def link(self, drafts: list[Draft]) -> tuple[tuple[Field, ...], tuple[Field, ...]]:
        """The fields in the order of the file, and in an order of evaluation."""
        evaluation: list[Field] = []
        for draft in drafts:
            if draft.reading is not None and not draft.untyped:
                self.visible[draft.name] = draft.reading.type
            if draft.expression is None and not draft.untyped:
                evaluation.append(self.plain(draft))
        for draft in self.in_order([draft for draft in drafts if draft.expression is not None]):
            field = self.computed(draft)
            if field is not None:
                self.visible[field.name] = field.type
                evaluation.append(field)
        place = {draft.name: number for number, draft in enumerate(drafts)}
        return tuple(sorted(evaluation, key=lambda field: place[field.name])), tuple(evaluation)

    def plain(self, draft: Draft) -> Field:
        assert draft.reading is not None
        source = draft.source
        if isinstance(source, Constant):
            assert isinstance(source.value, Scalar)
            source = Constant(typed_scalar(self.reader, source.value, draft.reading, f"constant of {draft.name}"))
        assert source is not None
        return self.field(draft, source, draft.reading)

    def field(self, draft: Draft, source: At | Compute | Constant | Fact, reading: Reading) -> Field:
        default = None
        if draft.default is not None:
            default = typed_scalar(self.reader, draft.default, reading, f"default of {draft.name}")
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
            draft.key.line,
            draft.key.column,
        )

    def in_order(self, drafts: list[Draft]) -> list[Draft]:
        """The computed fields, each after those that it reads; a cycle is noted and its fields left out."""
        waiting = {draft.name: draft for draft in drafts}
        reads = {draft.name: self.reads(draft) for draft in drafts}
        ordered: list[Draft] = []
        while waiting:
            ready = [name for name in waiting if not any(other in waiting for other in reads[name])]
            for name in ready or self.cycle(waiting, reads):
                draft = waiting.pop(name)
                if ready:
                    ordered.append(draft)
        return ordered

    def reads(self, draft: Draft) -> list[str]:
        assert draft.expression is not None
        try:
            return [name for name, _ in names_in(draft.expression.text)]
        except ExpressionError:
            return []  # noted when it is typed

    def cycle(self, waiting: Mapping[str, Draft], reads: Mapping[str, list[str]]) -> list[str]:
        """Notes one cycle; gives its names."""
        name = next(iter(waiting))
        chain: list[str] = []
        while name not in chain:
            chain.append(name)
            name = next(other for other in reads[name] if other in waiting)
        chain = [*chain[chain.index(name) :], name]
        draft = waiting[name]
        assert draft.expression is not None
        self.reader.add("cycle", f"fields that need each other: {' → '.join(chain)}", draft.expression)
        return chain[:-1]

    def computed(self, draft: Draft) -> Field | None:
        assert draft.expression is not None
        expression = self.typed(draft.expression, f"compute of {draft.name}")
        if expression is None:
            return None
        own = expression.type or Text()
        reading = draft.reading or Reading(own)
        if expression.type is not None and not castable(own, reading.type):
            message = f"compute of {draft.name} gives {own.name}, which can't become {reading.type.name}"
            self.reader.add("expression-type", message, draft.expression)
            return None
        finished = converted(expression, reading) if expression.type is not None else Nothing(reading.type, None)
        return self.field(draft, Compute(draft.expression.text, finished), reading)

    def typed(self, scalar: Scalar, what: str) -> Expression | None:
        try:
            unknown = [(name, at) for name, at in names_in(scalar.text) if name not in self.visible]
            if not unknown:
                return compile_expression(scalar.text, self.visible, self.types.reading)
            for name, at in unknown:
                if name not in self.declared:  # one that is broken has its own line in the report
                    self.unknown(name, at, scalar, what)
        except ExpressionError as error:
            self.reader.positioned(error, scalar, what)
        return None

    def unknown(self, name: str, at: int, scalar: Scalar, what: str) -> None:
        hint = did_you_mean(name, dict.fromkeys((*self.visible, *sorted(self.declared))))
        if not scalar.plain and scalar.text.strip() == name:
            hint = f"if a text was meant, YAML took its quotes: write \"'{name}'\""
        self.reader.add("unknown-field", f"{what}: no field {name}", scalar, hint, at)
