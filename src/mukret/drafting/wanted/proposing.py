"""Wanted rows → a draft of rules that gives them, or the cell that nothing gives."""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

from mukret.codes import Code
from mukret.documents import Source
from mukret.drafting.model import Draft, DraftField, DraftTable
from mukret.drafting.names import snake_case
from mukret.drafting.wanted.candidates import (
    Candidate,
    CandidateTable,
    candidate_tables,
)
from mukret.drafting.wanted.deriving import Derived, derived
from mukret.drafting.wanted.looking_up import LookedUp, looked_up
from mukret.drafting.wanted.matching import Matched, canonical, equal, match, rows_like
from mukret.drafting.wanted.rows import ANYTHING, Cell, WantedRow, WantedTable
from mukret.errors import ExpressionError, UsageError
from mukret.expressions.parse import parse_expression
from mukret.text import counted, did_you_mean, nearest, shortened
from mukret.values import JsonValue

_LITERALS = frozenset({"NULL", "TRUE", "FALSE", "CURRENT_TIMESTAMP"})
MOST_RIVALS = 2
# So many tables are tried, those that fit best first.
MOST_TRIED = 6
LONGEST = 40


@dataclass(frozen=True)
class Choice:
    """Two places that both give a wanted column, and the first row (from 1) in which they differ,
    with what each has.
    """

    table: str
    column: str
    places: tuple[str, str]
    row: int
    values: tuple[str, str]


# Whether it is the second.
Ask = Callable[[Choice], bool]


def propose(
    draft: Draft, sources: Sequence[Source], wanted: Sequence[WantedTable], ask: Ask
) -> Draft:
    """`draft`: all that a draft of these sources has.

    Raises UsageError for a cell that nothing gives, with what is nearest to it.
    """
    tables = list(candidate_tables(draft, sources))
    proposed = Draft(
        draft.title,
        embedded=draft.embedded,
        kinds=draft.kinds,
        # What nobody asked for is left out on purpose, and `check` does not tell of it.
        ignored={"$..*": "only what is wanted is read"},
    )
    for table in wanted:
        matched = _best(draft, proposed, table, tables)
        _Proposing(draft, proposed, table, matched, tables, ask).add()
    return proposed


def _best(
    draft: Draft, proposed: Draft, wanted: WantedTable, tables: Sequence[CandidateTable]
) -> Matched:
    """Of the tables that can give all columns the one that fits best.

    If none can, raises the error of the best.
    """
    matched = [
        candidate for table in tables if (candidate := match(wanted, table)) is not None
    ]
    if not matched:
        raise _not_found(
            wanted, wanted.rows[0], "no row of the input has anything of it"
        )
    first: UsageError | None = None
    for candidate in sorted(
        matched, key=lambda candidate: candidate.score, reverse=True
    )[:MOST_TRIED]:
        try:
            _Proposing(
                # Tried on a copy: a table that fails half-way leaves nothing behind.
                draft,
                copy.deepcopy(proposed),
                wanted,
                candidate,
                tables,
                nobody_asked,
            ).add()
            return candidate
        except UsageError as error:
            first = first or error
    assert first is not None
    raise first


def nobody_asked(_: Choice) -> bool:
    """The first place is taken; the other stands in a comment."""
    return False


def _not_found(
    wanted: WantedTable, row: WantedRow, why: str, hint: str | None = None
) -> UsageError:
    message = f"{wanted.file}, line {row.line}: {why}"
    return UsageError(
        Code.NOT_GIVEN,
        message,
        hint=hint or "check what was typed; ? stands for a cell that does not matter",
    )


class _Proposing:
    """One wanted table on its way into the draft."""

    def __init__(
        self,
        draft: Draft,
        proposed: Draft,
        wanted: WantedTable,
        matched: Matched,
        others: Sequence[CandidateTable],
        ask: Ask,
    ) -> None:
        self.draft = draft
        self.others = others
        self.ask = ask
        self.found = proposed
        self.wanted = wanted
        self.matched = matched
        self.table = DraftTable(wanted.name, copy.deepcopy(matched.table.table.rows))
        self.table.options = {
            name: value
            for name, value in matched.table.table.options.items()
            if name != "bad"
        }
        # Tables around it that are needed, by how far above they are.
        self.above: dict[int, DraftTable] = {}
        # Names of fields that are needed and not wanted, by the identity of the candidate.
        self.helpers: dict[int, str] = {}

    def add(self) -> None:
        self._make_tables_around()
        for number, name in enumerate(self.wanted.columns):
            self.column(name, [row.cells[number] for row in self.wanted.rows])
        if self.wanted.unwanted:
            self.condition()
        around = [self.above[level] for level in sorted(self.above, reverse=True)]
        tables = [*around, self.table]
        for outer, inner in pairwise(tables):
            # A table that gives nothing is left out, and what is within reaches through it.
            if not outer.fields:
                _reach_through(outer, inner)
        self.found.tables += [table for table in tables if table.fields]

    def _make_tables_around(self) -> None:
        """The rows of the table are found below those of the tables around it."""
        inner, source, level = self.table, self.matched.table.table, 1
        while source.within is not None:
            source = source.within
            around = DraftTable(
                self._free_name(source.name), copy.deepcopy(source.rows)
            )
            around.options = {
                name: value for name, value in source.options.items() if name != "bad"
            }
            inner.within = self.above[level] = around
            inner, level = around, level + 1

    def _free_name(self, name: str) -> str:
        taken = {
            self.wanted.name,
            *(table.name for table in self.found.tables),
            *self.wanted.columns,
        }
        while name in taken:
            name = f"all_{name}"
        return name

    def column(self, name: str, cells: Sequence[Cell]) -> None:
        """Adds what gives a wanted column. Raises UsageError for a cell that nothing gives."""
        giving = self.chosen(name)
        if giving:
            field = self.placed(name, giving[0])
            field.comment = self.evidence(giving, cells)
            self.as_typed(field, giving[0], cells)
            return
        if not any(isinstance(cell, str) for cell in cells):
            self.untyped(name)
            return
        made = next(derived(name, cells, self.matched.rows, self.matched.table), None)
        # Words for words fit almost anything: a record that has the cells is the better reason.
        if made is None or made.words:
            elsewhere = looked_up(
                cells, self.matched.rows, self.matched.table, self.others
            )
            record = next(elsewhere, None)
            if record is not None:
                self.table.fields.append(self.out_of_another(name, record))
                return
        if made is None:
            raise self.nothing_gives(name, cells)
        # At a path of the row in which the value stands.
        read_there = "at" in made.source
        self._put(self.made(name, made), made.of[0].levels if read_there else 0)

    def untyped(self, name: str) -> None:
        """A column of which no cell was typed: the value of its name, if there is one,
        else null.
        """
        named = [
            value
            for value in self.matched.table.values
            if snake_case(value.field.name) == snake_case(name)
        ]
        if named:
            self.placed(name, named[0]).comment = "by its name: nothing was typed of it"
            return
        null: dict[str, JsonValue] = {"compute": "CAST(NULL AS text)"}
        self.table.fields.append(
            DraftField(name, null, comment="nothing was typed of it")
        )

    def condition(self) -> None:
        """What holds for all wanted rows and for no unwanted one.

        Raises UsageError where nothing does.
        """
        unwanted = rows_like(self.wanted.unwanted, self.matched.table) or ()
        for value in sorted(
            self.matched.table.values,
            key=lambda value: (len(set(value.texts)), value.levels),
        ):
            ours = {value.texts[row] for row in self.matched.rows}
            theirs = {value.texts[row] for row in unwanted}
            if ours & theirs or not (value.is_text or value.kind.name == "boolean"):
                continue
            condition = _condition(ours, theirs, as_text=value.is_text)
            if condition is not None:
                self.table.options["where"] = condition.format(self.operand(value))
                return
        row = self.wanted.unwanted[0]
        raise _not_found(
            self.wanted,
            row,
            "no single value tells the unwanted rows from the wanted ones",
        )

    def chosen(self, name: str) -> Sequence[Candidate]:
        """The values that give a column, the one that is meant first."""
        giving = list(self.matched.columns[name])
        rival = next(
            (value for value in giving[1:] if self.differs(giving[0], value)), None
        )
        if rival is not None and self.ask(self.choice(name, giving[0], rival)):
            giving.remove(rival)
            giving.insert(0, rival)
            self.matched.columns[name] = giving
        return giving

    def choice(self, name: str, chosen: Candidate, rival: Candidate) -> Choice:
        row, (left, right) = _first_difference(chosen, rival)
        return Choice(
            self.wanted.name,
            name,
            (_place(chosen), _place(rival)),
            row + 1,
            (_shown(left), _shown(right)),
        )

    def out_of_another(self, name: str, looked_up_there: LookedUp) -> DraftField:
        """A field that is looked up, and the table in which that is done, of which nothing is
        written.
        """
        other = looked_up_there.table.table
        table = DraftTable(
            self._free_name(other.name),
            copy.deepcopy(other.rows),
            key=[looked_up_there.key.field.name],
        )
        table.options = {
            option: value for option, value in other.options.items() if option != "bad"
        }
        table.options["duplicates"] = "first"
        for value in (looked_up_there.key, looked_up_there.give):
            field = DraftField(
                value.field.name,
                dict(value.field.source),
                {**value.field.reading, "keep": False},
            )
            self._take_enum(field)
            table.fields.append(field)
        self.found.tables.append(table)
        by = self.name_of(looked_up_there.by)
        lookup: dict[str, JsonValue] = {
            "in": table.name,
            "by": [by],
            "give": looked_up_there.give.field.name,
        }
        return DraftField(
            name, {"lookup": lookup}, comment="of a record with the same key"
        )

    def placed(self, name: str, value: Candidate, *, kept: bool = True) -> DraftField:
        """A value as a field: of the table itself, or of the one that it stands in, from where it
        is inherited.
        """
        field = DraftField(name, dict(value.field.source), dict(value.field.reading))
        if isinstance(above := field.source.get("parent"), str):
            field.source["parent"] = self.name_of(self.of_name(above))
        self._take_enum(field)
        self._put(field, value.levels)
        if not kept:
            field.reading["keep"] = False
        return field

    def _put(self, field: DraftField, levels: int) -> None:
        """Adds a field to the table, or to the one so many levels above it, from where it is
        inherited.
        """
        if levels == 0:
            self.table.fields.append(field)
            return
        around = self.above.get(levels)
        (self.found.response if around is None else around.fields).append(field)
        self.table.inherit.append(field.name)
        if around is not None:
            field.reading["keep"] = False

    def as_typed(
        self, field: DraftField, value: Candidate, cells: Sequence[Cell]
    ) -> None:
        """Numbers that were typed otherwise than the draft would write them have as many digits
        after the point as all that were typed, if no value has more.
        """
        if not value.kind.is_number:
            return
        typed = [
            (row, cell)
            for row, cell in zip(self.matched.rows, cells, strict=True)
            if isinstance(cell, str)
        ]
        if all(value.texts[row] == cell for row, cell in typed):
            return
        digits = {_digits(cell) for _, cell in typed}
        most = max(
            (_digits(text) for text in value.texts if text is not None), default=0
        )
        enough = len(digits) == 1 and max(digits) >= most
        field.reading["type"] = f"decimal(18,{max(digits)})" if enough else "float"

    def _take_enum(self, field: DraftField) -> None:
        if field.type in self.draft.enums:
            self.found.enums[str(field.type)] = self.draft.enums[str(field.type)]

    def made(self, name: str, made: Derived) -> DraftField:
        """What is made of other values as a field; those that are not wanted are not kept."""
        if made.words:
            return self.worded(name, made)
        source = dict(made.source)
        if "compute" in source:
            source["compute"] = str(source["compute"]).format(
                *map(self.operand, made.of)
            )
        field = DraftField(name, source, dict(made.reading))
        field.comment = made.how
        return field

    def operand(self, value: Candidate) -> str:
        """The field that holds a value, as an expression names it."""
        name = self.name_of(value)
        try:
            parse_expression(name)
        except ExpressionError:
            return f'"{name}"'
        return f'"{name}"' if name.upper() in _LITERALS else name

    def of_name(self, name: str) -> Candidate:
        """The value of a field of the table itself."""
        return next(
            value
            for value in self.matched.table.values
            if value.field.name == name and value.levels == 0
        )

    def name_of(self, value: Candidate) -> str:
        """The field that holds a value, which is added if there is none."""
        for name, giving in self.matched.columns.items():
            if giving and giving[0] is value:
                return name
        if id(value) not in self.helpers:
            name = value.field.name
            taken = {*self.wanted.columns, *self.helpers.values(), *self.table.names()}
            while name in taken:
                name = f"{name}_there"
            self.helpers[id(value)] = name
            self.placed(name, value, kept=False)
        return self.helpers[id(value)]

    def worded(self, name: str, made: Derived) -> DraftField:
        """An enum.

        A word of which nothing was typed stands for the one that it begins like, if there is one,
        else for itself.
        """
        [value] = made.of
        typed = list(dict.fromkeys(made.words.values()))
        known = {text.strip(): word for text, word in made.words.items()}
        there = dict.fromkeys(text.strip() for text in value.texts if text is not None)
        words = {text: _word_for(text, known, typed) for text in there if text}
        self.found.enums[name] = tuple(dict.fromkeys([*typed, *words.values()]))
        accepted = self.found.accepted[name] = {}
        for text, word in words.items():
            if text.casefold() != word.casefold():
                accepted.setdefault(word, []).append(text)
        return DraftField(name, dict(made.source), {"type": name}, comment=made.how)

    def evidence(self, giving: Sequence[Candidate], cells: Sequence[Cell]) -> str:
        """In how many rows it was found, and what else would have given them."""
        typed = sum(isinstance(cell, str) for cell in cells)
        said = f"{typed} of {counted(len(cells), 'row')}"
        rivals = [value for value in giving[1:] if self.differs(giving[0], value)]
        told = [self.rival(giving[0], value) for value in rivals[:MOST_RIVALS]]
        return "; ".join(
            [
                said,
                *(
                    told
                    or [
                        f"alone among {counted(len(self.matched.table.values), 'value')}"
                    ]
                ),
            ]
        )

    @staticmethod
    def differs(one: Candidate, other: Candidate) -> bool:
        """Whether two values stand in different places, and are not the same in all rows."""
        if (one.field.source, one.levels) == (other.field.source, other.levels):
            return False
        pairs = zip(one.texts, other.texts, strict=True)
        return any(
            _canonical(one, left) != _canonical(other, right) for left, right in pairs
        )

    @staticmethod
    def rival(one: Candidate, other: Candidate) -> str:
        """Another value that gives the wanted cells, and the first row that tells them apart."""
        row, (left, right) = _first_difference(one, other)
        return f"or {_place(other)}: row {row + 1} has {_shown(left)} here, {_shown(right)} there"

    def nothing_gives(self, name: str, cells: Sequence[Cell]) -> UsageError:
        """The cell that is most likely wrong, and the value that stands where the others were
        found.
        """
        wanted, matched = self.wanted, self.matched
        for value in matched.table.values:
            number = self._only_wrong(value, cells)
            if number is not None:
                typed, there = _text(cells[number]), value.texts[matched.rows[number]]
                why = (
                    f"{name} is {_shown(typed)}, and where the other rows have theirs stands "
                    f"{_shown(there)}"
                )
                return _not_found(wanted, wanted.rows[number], why)
        number = next(n for n, cell in enumerate(cells) if isinstance(cell, str))
        cell = str(cells[number])
        texts = (value.texts[matched.rows[number]] for value in matched.table.values)
        known = dict.fromkeys(text for text in texts if text)
        hint = did_you_mean(cell, known) if nearest(cell, known) else None
        why = f"nothing in its row gives {name}: {_shown(cell)}"
        return _not_found(wanted, wanted.rows[number], why, hint)

    def _only_wrong(self, value: Candidate, cells: Sequence[Cell]) -> int | None:
        """The number of the one cell that a value does not give, if it gives all others."""
        fitting = [
            equal(value, row, cell)
            for row, cell in zip(self.matched.rows, cells, strict=True)
        ]
        typed = [
            fits
            for fits, cell in zip(fitting, cells, strict=True)
            if isinstance(cell, str)
        ]
        if fitting.count(False) != 1 or not any(typed):
            return None
        return fitting.index(False)


def _condition(
    ours: set[str | None], theirs: set[str | None], *, as_text: bool
) -> str | None:
    """In SQL, with `{}` for the name of the field."""
    if theirs == {None}:
        return "{} IS NOT NULL"
    if ours == {None}:
        return "{} IS NULL"
    for texts, operator in ((ours, "="), (theirs, "<>")):
        if len(texts) == 1 and isinstance(text := next(iter(texts)), str):
            literal = (
                "'"
                + text.replace("'", "''").replace("{", "{{").replace("}", "}}")
                + "'"
                if as_text
                else text
            )
            return f"{{}} {operator} {literal}"
    return None


def _first_difference(
    one: Candidate, other: Candidate
) -> tuple[int, tuple[str | None, str | None]]:
    """The number of the first row in which two values differ, and what each has there."""
    pairs = enumerate(zip(one.texts, other.texts, strict=True))
    return next(
        (row, pair)
        for row, pair in pairs
        if _canonical(one, pair[0]) != _canonical(other, pair[1])
    )


def _place(value: Candidate) -> str:
    return str(value.field.source.get("at") or value.field.source.get("fact"))


def _reach_through(outer: DraftTable, inner: DraftTable) -> None:
    """A table of which nothing is wanted: the paths of both are one, or it has a field that is not
    written.
    """
    plain = (
        not outer.options
        and isinstance(outer.rows, str)
        and isinstance(inner.rows, str)
    )
    if plain and inner.rows != "$":
        inner.rows = f"{outer.rows}{str(inner.rows)[1:]}"
        inner.within = outer.within
    else:
        outer.fields.append(DraftField("place", {"fact": "position"}, {"keep": False}))


def _word_for(text: str, typed: Mapping[str, str], words: Sequence[str]) -> str:
    if text in typed:
        return typed[text]
    alike = [
        word
        for word in words
        if word.casefold().startswith(text.casefold())
        or text.casefold() == word.casefold()
    ]
    return alike[0] if len(alike) == 1 else text


def _digits(text: str) -> int:
    return len(text.partition(".")[2])


def _text(cell: Cell) -> str | None:
    return None if cell is ANYTHING or cell is None else str(cell)


def _canonical(value: Candidate, text: str | None) -> str | None:
    return None if text is None else canonical(value.kind, text)


def _shown(text: str | None) -> str:
    return "null" if text is None else shortened(text, LONGEST)
