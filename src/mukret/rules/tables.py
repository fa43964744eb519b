"""The section `tables` and `response.fields`."""

from __future__ import annotations

from collections.abc import Mapping as MappingType

from mukret.expressions.tree import Constant as Nothing
from mukret.paths import parse_path
from mukret.rules.fields import Draft, FieldReader, policy
from mukret.rules.linking import Linker
from mukret.rules.model import RESPONSE, Fact, Field, Inherited, Policy, Rows, Table
from mukret.rules.reader import Reader, keys
from mukret.rules.source import Mapping, Node, Scalar, Sequence
from mukret.rules.typing import TypeNames
from mukret.text import did_you_mean
from mukret.types import Boolean

_TABLE_KEYS = keys(
    "rows when spread within inherit key duplicates where bad fields note", "outer header recurse kind rest omit"
)
_RESPONSE_KEYS = keys("fields", "embedded kinds ignore")
Fields = tuple[Field, ...]


class TablesReader:
    def __init__(self, reader: Reader, types: TypeNames) -> None:
        self.reader = reader
        self.types = types
        self.response: Fields = ()
        self.tables: dict[str, Table] = {}
        self.defined: dict[str, frozenset[str]] = {}
        """Names of the fields that each table gives itself, those of broken ones included."""
        self.named: frozenset[str] = frozenset()
        """Names of all tables, those of broken ones included."""

    # ---- response

    def read_response(self, node: Node | None) -> Fields:
        body = self.reader.mapping(node, "response", _RESPONSE_KEYS)
        section = self.reader.mapping(body.get("fields"), "response.fields") if body else None
        drafts = self.drafts(section, "reject")
        for draft in drafts:
            if isinstance(draft.source, Fact):
                self.reader.add("wrong-value", "a fact of a row has no place in response.fields", draft.key)
        self.defined[RESPONSE] = frozenset(section.entries) if section else frozenset()
        linker = Linker(self.reader, self.types, {}, self.defined[RESPONSE])
        self.response, evaluation = linker.link(drafts)
        return evaluation

    def drafts(self, section: Mapping | None, bad: Policy) -> list[Draft]:
        if section is None:
            return []
        self.reader.distinct([key for key, _ in section.entries.values()], "fields")
        fields = FieldReader(self.reader, self.types, bad)
        found = []
        for key, node in section.entries.values():
            self.reader.name(key, "a field")
            if isinstance(node, Scalar) and node.empty:
                continue
            draft = fields.read(key, node)
            if draft is not None:
                found.append(draft)
        return found

    # ---- tables

    def read_tables(self, node: Node | None, root: Mapping) -> dict[str, Table]:
        section = self.reader.mapping(node, "tables")
        if section is None or not section.entries:
            if "tables" not in root.entries or section is not None:
                self.reader.add(
                    "missing-key",
                    "a rules file has at least one table",
                    root,
                    "tables: {sailings: {rows: …, fields: …}}",
                )
            return {}
        self.named = frozenset(section.entries)
        self.reader.distinct([key for key, _ in section.entries.values()], "tables")
        bodies: dict[str, tuple[Scalar, Mapping]] = {}
        for name, (key, value) in section.entries.items():
            self.reader.name(key, "a table")
            body = self.reader.mapping(value, f"the table {name}", _TABLE_KEYS)
            if body is not None:
                bodies[name] = (key, body)
        self.in_parent_order(bodies)
        return {name: self.tables[name] for name in section.entries if name in self.tables}

    def in_parent_order(self, bodies: dict[str, tuple[Scalar, Mapping]]) -> None:
        waiting = dict(bodies)
        parents = {name: self.parent(body, bodies) for name, (_, body) in bodies.items()}
        while waiting:
            ready = [name for name in waiting if parents[name] not in waiting]
            if not ready:
                self.cycle(waiting, parents)
                return
            for name in ready:
                key, body = waiting.pop(name)
                self.read_table(name, key, body, parents[name])

    def cycle(self, waiting: MappingType[str, tuple[Scalar, Mapping]], parents: MappingType[str, str | None]) -> None:
        chain = [next(iter(waiting))]
        while (above := parents[chain[-1]]) not in chain:
            assert above is not None
            chain.append(above)
        chain = [*chain[chain.index(above) :], above]
        self.reader.add("cycle", f"tables within each other: {' → '.join(chain)}", waiting[chain[0]][0])

    def parent(self, body: Mapping, bodies: MappingType[str, object]) -> str | None:
        scalar = self.reader.scalar(body.get("within"), "within")
        if scalar is None:
            return None
        if scalar.text not in bodies:
            self.reader.add("unknown-table", f"no table {scalar.text}", scalar, did_you_mean(scalar.text, bodies))
        return scalar.text

    def read_table(self, name: str, key: Scalar, body: Mapping, within: str | None) -> None:
        bad = policy(self.reader, body.get("bad")) or "reject"
        section = self.reader.mapping(body.get("fields"), f"fields of {name}")
        if "fields" not in body.entries:
            self.reader.add("missing-key", f"the table {name} has no fields", key, "fields: {name: $.path}")
        self.defined[name] = frozenset(section.entries) if section else frozenset()
        inherit = self.inherit(name, body, within)
        declared = self.defined[name] | frozenset(self.names_asked(body))
        linker = Linker(self.reader, self.types, {inherited.name: inherited.type for inherited in inherit}, declared)
        fields, evaluation = linker.link(self.drafts(section, bad))
        self.clashes(name, inherit, section, within)
        where_scalar = self.reader.scalar(body.get("where"), f"where of {name}")
        where = linker.typed(where_scalar, f"where of {name}") if where_scalar else None
        if where_scalar and where is not None and where.type is not None and not isinstance(where.type, Boolean):
            self.reader.add(
                "expression-type", f"where of {name} wants a condition, but this is {where.type.name}", where_scalar
            )
        self.reader.choice(body.get("duplicates"), "duplicates", ("reject",), later=("first", "last"))
        self.tables[name] = Table(
            name,
            self.rows(name, body),
            within,
            tuple(inherit),
            fields,
            evaluation,
            self.key(name, body, linker),
            where if where is None or where.type is not None else Nothing(Boolean(), None),
            self.reader.text(body.get("note"), "note"),
            key.line,
            key.column,
        )

    def rows(self, name: str, body: Mapping) -> Rows:
        node = body.get("rows")
        if isinstance(node, Mapping):
            self.reader.add("not-supported", "rows: zip is not supported yet", node, "a path, or a list of paths")
        items = node.items if isinstance(node, Sequence) else [] if isinstance(node, Mapping) else [node]
        if isinstance(node, Sequence) and not items:
            self.reader.add("wrong-value", f"rows of {name} is an empty list of paths", node)
        paths = [self.reader.path(item, f"rows of {name}") for item in items]
        return Rows(
            tuple(path for path in paths if path is not None) or (parse_path("$"),),
            self.reader.condition(body.get("when"), f"when of {name}"),
            self.reader.flag(body.get("spread"), "spread"),
        )

    def key(self, name: str, body: Mapping, linker: Linker) -> tuple[str, ...]:
        found = []
        for scalar in self.reader.scalars(body.get("key"), "key"):
            if scalar.text in linker.visible:
                found.append(scalar.text)
            elif scalar.text not in linker.declared:
                self.reader.add(
                    "unknown-field",
                    f"key of {name}: no field {scalar.text}",
                    scalar,
                    did_you_mean(scalar.text, linker.visible),
                )
        if "duplicates" in body.entries and "key" not in body.entries:
            self.reader.add(
                "missing-key", f"duplicates of {name} needs a key", body.key("duplicates"), "say key as well"
            )
        return tuple(found)

    # ---- inherit

    def names_asked(self, body: Mapping) -> list[str]:
        node = body.get("inherit")
        items = node.items if isinstance(node, Sequence) else [node]
        return [item.text for item in items if isinstance(item, Scalar)]

    def inherit(self, name: str, body: Mapping, within: str | None) -> list[Inherited]:
        found: list[Inherited] = []
        for scalar in self.reader.scalars(body.get("inherit"), "inherit"):
            if any(scalar.text == earlier.name for earlier in found):
                self.reader.add("name-twice", f"{name} inherits {scalar.text} twice", scalar)
                continue
            inherited = self.find(scalar.text, within)
            if inherited is not None:
                found.append(inherited)
            elif not self.defined_above(scalar.text, within):
                known = self.names_above(within)
                self.reader.add(
                    "unknown-field",
                    f"{name} can't inherit {scalar.text}: nothing above has it",
                    scalar,
                    did_you_mean(scalar.text, known),
                )
        return found

    def ancestors(self, within: str | None) -> list[str]:
        """The tables above, nearest first, then the response."""
        chain = []
        while within in self.tables:
            chain.append(within)
            within = self.tables[within].within
        return [*chain, RESPONSE]

    def find(self, name: str, within: str | None) -> Inherited | None:
        for origin in self.ancestors(within):
            fields = self.response if origin == RESPONSE else self.tables[origin].fields
            for field in fields:
                if field.name == name:
                    return Inherited(name, origin, field)
        return None

    def names_above(self, within: str | None) -> list[str]:
        return sorted(set().union(*(self.defined.get(origin, frozenset()) for origin in self.ancestors(within))))

    def defined_above(self, name: str, within: str | None) -> bool:
        return name in self.names_above(within) or (within is not None and within not in self.tables)

    def clashes(self, name: str, inherit: list[Inherited], section: Mapping | None, within: str | None) -> None:
        for inherited in inherit:
            if section and inherited.name in section.entries:
                message = f"{name} inherits {inherited.name} and has a field of that name"
                self.reader.add("name-clash", message, section.key(inherited.name), "rename the field")
        if within in self.defined and name in self.defined[within]:
            table = self.tables[within]
            where = next((field for field in table.fields if field.name == name), table)
            message = f"the table {name} and a field of {within} have the same name"
            self.reader.problems.add_at("name-clash", message, where.line, where.column, "rename one of them")
