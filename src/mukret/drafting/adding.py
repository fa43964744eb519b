"""Drafts what is new in responses and adds it to existing rules; everything in them stays."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from mukret.documents import Source
from mukret.drafting import draft_rules
from mukret.drafting.draft_fields import NOT_FOR_ENUMS
from mukret.drafting.model import Draft, DraftField, DraftTable
from mukret.drafting.names import fresh
from mukret.drafting.text import enum_lines, field_value, table_lines
from mukret.drafting.widening import Proposal, proposals, with_proposals
from mukret.engine.run import Run
from mukret.inspect.drift import ran_over_all
from mukret.paths import Path, Wildcard, parse_path
from mukret.paths.locate import path_text
from mukret.paths.query import with_wildcards
from mukret.rules import parse_rules
from mukret.rules.edit import (
    NotPlain,
    with_facts,
    with_fields,
    with_ignored,
    with_members,
)
from mukret.rules.model import Rules, Table


@dataclass
class Added:
    """The text of the rules with what was added, and what that is."""

    text: str
    fields: list[str] = field(default_factory=list)
    tables: list[str] = field(default_factory=list)
    ignored: list[str] = field(default_factory=list)
    proposals: list[Proposal] = field(default_factory=list)
    rejected: int = 0
    """Rows that the rules reject."""

    @property
    def anything(self) -> bool:
        return bool(self.fields or self.tables or self.ignored or self.proposals)


def added_to(rules: Rules, text: str, sources: Sequence[Source]) -> Added:
    """Rules with a draft of what they do not read.

    Raises InputError, and NotPlain where there is no place for it.
    """
    draft = draft_rules(sources, "", embedded=[item.path for item in rules.embedded])
    for source in sources:
        source.rewind()
    run = ran_over_all(rules, sources)
    adding = _Adding(
        rules, text, draft, [_path(path) for path in sorted(run.sample.unread)]
    )
    adding.facts()
    adding.tables()
    adding.ignore()
    adding.propose(run)
    # What is written to the file must be rules that can be read.
    parse_rules(adding.added.text, rules.file)
    return adding.added


class _Adding:
    def __init__(
        self, rules: Rules, text: str, draft: Draft, unread: Sequence[str]
    ) -> None:
        self.rules = rules
        self.draft = draft
        self.unread = unread
        self.added = Added(text)
        self.covered: set[str] = set()
        self.new_tables: list[list[str]] = []
        self.new_enums: list[list[str]] = []
        self.enums = {*rules.enums, *NOT_FOR_ENUMS}
        self.place = {id(table): _place(table) for table in draft.tables}
        self.places = dict(_places(rules))
        # By table of the draft, the table of the rules that it is.
        self.known: dict[str, str] = {}
        # By table of the draft that is added, the fields by which it is joined.
        self.keys: dict[str, list[str]] = {}
        self.taken = {
            *rules.tables,
            *(name for table in rules.tables.values() for name in table.types),
        }

    def new(self, place: str) -> bool:
        """Whether no rule reads what stands at a place."""
        above = [path for path in self.unread if _within(place, path)]
        self.covered.update(above)
        if above:
            self.covered.update(path for path in self.unread if _within(path, place))
        return bool(above)

    def facts(self) -> None:
        """Adds fields of the response, if the rules have a place for them; else their paths are
        ignored.
        """
        known = {own_field.name for own_field in self.rules.response_fields}
        by_path = {
            _path(str(own_field.source["at"])): own_field
            for own_field in self.draft.response
            if "at" in own_field.source
        }
        fresh_facts = {
            path: own_field
            for path, own_field in by_path.items()
            if self.holds_unread(path)
        }
        fields: dict[str, str] = {}
        for own_field in fresh_facts.values():
            # Names of tables count, too: a field can't be named like one.
            own_field.name = fresh(own_field.name, {*known, *self.taken, *fields})
            fields[own_field.name] = field_value(own_field)
        if not fields:
            return
        try:
            self.added.text = with_facts(self.added.text, fields)
        # The file is written in a way that can't be added to: it stays as it is.
        except NotPlain:
            return
        self.added.fields += [f"response.{name}" for name in fields]
        self.taken |= set(fields)
        for place in fresh_facts:
            self.new(place)

    def holds_unread(self, place: str) -> bool:
        """Whether something at or below a place is read by no rule."""
        return any(_within(place, path) for path in self.unread)

    def tables(self) -> None:
        for table in self.draft.tables:
            place = self.place[id(table)]
            if place in self.places:
                self.known[table.name] = self.places[place]
                self.add_fields(table, self.rules.tables[self.places[place]])
            elif self.new(place):
                self.add_table(table)
        for key, members in (("tables", self.new_tables), ("enums", self.new_enums)):
            if members:  # together: the file is read anew for each change
                self.added.text = with_members(self.added.text, key, members)

    def add_fields(self, table: DraftTable, own_field: Table) -> None:
        texts: dict[str, str] = {}
        for drafted in table.fields:
            at = drafted.source.get("at")
            if isinstance(at, str) and self.new(_joined(self.place[id(table)], at)):
                drafted.name = fresh(
                    drafted.name, {*own_field.types, *self.taken, *texts}
                )
                drafted.required = (
                    False  # rows that are written today are not to be rejected
                )
                texts[drafted.name] = field_value(self.with_enum(drafted))
                self.added.fields.append(f"{own_field.name}.{drafted.name}")
        if texts:
            self.added.text = with_fields(self.added.text, own_field.name, texts)

    def add_table(self, table: DraftTable) -> None:
        """Adds a table of the draft below the table of the rules, or the new one, that it is
        within; none where the rules read its parent otherwise.
        """
        # What the draft inherits is named as the draft names it; the rules have names of their own.
        before = table.inherit
        inherited = self.key_above(table)
        if inherited is None:
            return
        own_key = [name for name in table.key if name not in before]
        # A part of a key would take rows of other parents for duplicates.
        complete = own_key and (inherited or not before)
        table.inherit = inherited
        table.key = [*inherited, *own_key] if complete else []
        name = fresh(table.name, self.taken)
        self.keys[table.name] = table.key
        table.name = name
        self.taken |= {name, *(field.name for field in table.fields)}
        table.fields = [
            self.with_enum(field)
            for field in table.fields
            if "lookup" not in field.source
        ]
        self.new_tables.append(list(_dedented(table_lines(table))))
        self.added.tables.append(name)

    def key_above(self, table: DraftTable) -> list[str] | None:
        """The key of the table that a drafted one is within, which it inherits; None where the
        rules have no such table.

        The parent of the draft is replaced by that of the rules, whose name may be another.
        """
        if table.within is None:
            return []
        above = table.within.name
        # A table of the rules; else one that is drafted beside it.
        if above in self.known:
            parent = self.rules.tables[self.known[above]]
            table.within = DraftTable(parent.name, None)
            return list(parent.key)
        if above in self.keys:
            return list(self.keys[above])
        return None

    def with_enum(self, own_field: DraftField) -> DraftField:
        """Adds the enum of a field, if it has one."""
        own_field.refers_to = None  # of tables by their names in the draft
        name = str(own_field.type)
        if name in self.draft.enums:
            words = self.draft.enums[name]
            fitting = fresh(name, self.enums)
            self.new_enums.append(list(_dedented(enum_lines(fitting, words))))
            own_field.reading["type"] = fitting
            self.enums.add(fitting)
        return own_field

    def propose(self, run: Run) -> None:
        """Says above the fields for which rows are rejected what could be made wider."""
        seen = {name: tally.rows_seen for name, tally in run.tally.tables.items()}
        drafted = _drafted_fields(self.draft, self.rules, self.known)
        made = proposals(self.rules, list(run.tally.reasons.values()), seen, drafted)
        text = with_proposals(
            self.added.text, parse_rules(self.added.text, self.rules.file), made
        )
        self.added.proposals = made if text != self.added.text else []
        self.added.text, self.added.rejected = text, run.tally.rows_rejected

    def ignore(self) -> None:
        left = [path for path in self.unread if path not in self.covered]
        if left:
            self.added.text = with_ignored(self.added.text, left)
            self.added.ignored = left


def _drafted_fields(
    draft: Draft, rules: Rules, known: Mapping[str, str]
) -> dict[tuple[str, str], DraftField]:
    """What a draft makes of the values of fields, by the table and field of the rules."""
    drafted: dict[tuple[str, str], DraftField] = {}
    for table in draft.tables:
        if table.name in known:
            name = known[table.name]
            by_path = {
                _path(str(own_field.source["at"])): own_field
                for own_field in table.fields
                if isinstance(own_field.source.get("at"), str)
            }
            for own_field in rules.tables[name].fields:
                paths = [_steps(path) for path in own_field.reads.paths]
                # The first path counts: others are for responses that lack it.
                if paths and paths[0] in by_path:
                    drafted[name, own_field.name] = by_path[paths[0]]
    return drafted


def _within(place: str, above: str) -> bool:
    return place == above or place.startswith((f"{above}.", f"{above}["))


def _dedented(lines: Iterator[str]) -> Iterator[str]:
    return (line.removeprefix("  ") for line in lines)


def _path(text: str) -> str:
    return _steps(parse_path(text))


def _steps(path: Path) -> str:
    """A path with `.*` as `[*]`, so that two that are the same read the same."""
    return path_text(
        with_wildcards(path.segments, lambda segment: segment.only == Wildcard())
    )


def _joined(place: str, below: str) -> str:
    return place + _path(below).removeprefix("$")


def _place(table: DraftTable) -> str:
    """Where the rows of a drafted table stand, from the document on."""
    above = _place(table.within) if table.within is not None else "$"
    if isinstance(table.rows, dict):
        first = next(iter(table.rows["zip"].values()))
        return _joined(above, str(first))
    return _joined(above, str(table.rows)) + (
        "[*]" if table.options.get("spread") else ""
    )


def _places(rules: Rules) -> Iterator[tuple[str, str]]:
    """The places at which rows of tables stand, and their names; of several at one place the first
    counts.
    """
    bases: dict[str | None, str] = {None: "$"}
    seen: set[str] = set()
    for table in rules.parents_first():
        # Of several paths to rows the first is what a draft would have.
        path = table.rows.named_paths[0]
        place = (
            bases[table.within]
            + _steps(path).removeprefix("$")
            + ("[*]" if table.rows.spread else "")
        )
        bases[table.name] = place
        if place not in seen:
            seen.add(place)
            yield place, table.name
