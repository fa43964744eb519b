"""One field: where its value comes from, its type, and what happens when the value is bad.

Expressions and lookups are left as they are written (`FieldDraft`): they are typed once all fields
of all tables are known.
"""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, replace
from typing import cast

from mukret.codes import Code
from mukret.documents.decode import NotJson, decode
from mukret.rules.model import Policy
from mukret.rules.reader import Reader, keys
from mukret.rules.source import Mapping, Node, Scalar, Sequence
from mukret.rules.sources import (
    DOCUMENT_FACTS,
    REQUEST_FACT,
    ROW_FACTS,
    At,
    ConstantValue,
    Fact,
    Rest,
    Take,
)
from mukret.rules.typing import OPTION_NAMES, TypeNames, policy
from mukret.types import (
    Bad,
    Integer,
    Json,
    ListOf,
    Text,
    Timestamp,
    TypeSpec,
    ValueType,
)
from mukret.types.taken import GATHERINGS, Gathering, can_gather
from mukret.values import JsonValue

SOURCES = ("at", "compute", "constant", "fact", "lookup", "parent")
TAKES = ("only", "first", "last", "all", "count", *GATHERINGS)
_FACT_TYPES: dict[str, ValueType] = {
    **dict.fromkeys(("position", "depth", "document", "page"), Integer()),
    "fetched_at": Timestamp(),
}
FIELD_KEYS = keys(
    " ".join(
        (
            *SOURCES,
            *OPTION_NAMES,
            "type take with required default bad keep note measured_in title",
        )
    ),
)
LOOKUP_KEYS = keys("in by give across")


@dataclass(frozen=True)
class LookupDraft:
    """A lookup whose names are not resolved yet."""

    body: Mapping
    into: Scalar
    by: list[Scalar]
    give: Scalar
    across_run: bool = False


@dataclass
class FieldDraft:
    """A field that is not linked yet: a `source` that is ready, or an `expression`, a `lookup`, or
    the field of the row `above`. `reading` is None where the type is that of what it is made of.
    """

    name: str
    key: Scalar
    source: At | ConstantValue | Fact | Rest | None = None
    reading: TypeSpec | None = None
    expression: Scalar | None = None
    lookup: LookupDraft | None = None
    above: Scalar | None = None
    required: bool = False
    default: Scalar | Sequence | None = None
    bad: Policy = "reject"
    keep: bool = True
    note: str | None = None
    measured_in: str | None = None
    title: str | None = None
    untyped: bool = False
    """The file names a type that does not exist: nothing can be said of expressions that read this
    field.
    """


class FieldReader:
    def __init__(self, reader: Reader, types: TypeNames, policy: Policy) -> None:
        self.reader = reader
        self.types = types
        self.policy = policy

    def read(self, key: Scalar, node: Node) -> FieldDraft | None:
        if isinstance(node, Scalar):
            return self.shorthand(key, node)
        body = self.reader.mapping(node, f"the field {key.text}", FIELD_KEYS)
        if body is None:
            return None
        source_key = self.source_key(key, body)
        if source_key is None:
            return None
        # A draft can be read without other fields; what hangs on their types is linked once all are
        # read.
        draft = FieldDraft(key.text, key)
        self.source(draft, source_key, body)
        draft.reading = self.reading(draft, source_key, body)
        self.properties(draft, body)
        return (
            draft
            if draft.source or draft.expression or draft.lookup or draft.above
            else None
        )

    def shorthand(self, key: Scalar, node: Scalar) -> FieldDraft | None:
        if node.empty:
            self.reader.missing(key)
            return None
        path = self.reader.path(node, f"path of {key.text}")
        # `name: $.path` is a text, with what `defaults` says for texts.
        reading = self.types.with_defaults(TypeSpec(Text()))
        return (
            FieldDraft(key.text, key, At((path,), "only"), reading, bad=self.policy)
            if path
            else None
        )

    def source_key(self, key: Scalar, body: Mapping) -> str | None:
        given = [name for name in SOURCES if name in body.entries]
        if len(given) > 1:
            self.reader.add(
                Code.WRONG_VALUE,
                f"{key.text} takes its value from {' and '.join(given)}",
                body.key(given[1]),
                "keep one of them",
            )
        elif not given:
            self.reader.add(
                Code.MISSING_KEY,
                f"{key.text} has no source",
                key,
                f"give it one of {', '.join(SOURCES)}",
            )
        # With several, or none, nothing else about the field can be judged.
        return given[0] if len(given) == 1 else None

    def source(self, draft: FieldDraft, source_key: str, body: Mapping) -> None:
        node = body.entries[source_key][1]
        take = self.take(source_key, body)
        # Expressions and lookups are kept as texts until the types of all fields are known.
        match source_key:
            case "at":
                separator = self.reader.text(body.get("with"), "with")
                draft.source = self.at(
                    draft, node, take, ", " if separator is None else separator
                )
            case "compute":
                draft.expression = self.reader.scalar(node, f"compute of {draft.name}")
            case "constant":
                scalar = self.reader.scalar(node, f"constant of {draft.name}")
                draft.source = ConstantValue(scalar) if scalar else None
            case "fact":
                draft.source = self.fact(node)
            case "lookup":
                draft.lookup = self.lookup(draft, node)
            case "parent":
                draft.above = self.reader.scalar(node, f"parent of {draft.name}")

    def take(self, source_key: str, body: Mapping) -> str | None:
        """Which of several nodes a field takes, or how they are put together; refused where there
        are no nodes.
        """
        take = self.reader.choice(body.get("take"), "take", TAKES)
        if take and source_key != "at":
            message = f"take goes with at, not with {source_key}"
            self.reader.add(Code.WRONG_OPTION, message, body.key("take"))
        if "with" in body.entries and take != "join":
            message = "with goes with take: join"
            self.reader.add(Code.WRONG_OPTION, message, body.key("with"))
        return take

    def fact(self, node: Node) -> Fact | None:
        scalar = self.reader.scalar(node, "fact")
        if (
            scalar is not None
            and scalar.text.startswith(REQUEST_FACT)
            # The prefix alone names no variable.
            and scalar.text != REQUEST_FACT
        ):
            return Fact(scalar.text)
        word = self.reader.choice(
            node, "fact", (*ROW_FACTS, *DOCUMENT_FACTS, f"{REQUEST_FACT}NAME")
        )
        return Fact(word) if word else None

    def lookup(self, draft: FieldDraft, node: Node) -> LookupDraft | None:
        body = self.reader.mapping(node, f"lookup of {draft.name}", LOOKUP_KEYS)
        if body is None:
            return None
        for key in ("in", "by", "give"):
            if key not in body.entries:
                hint = "lookup: {in: ports, by: [to_port], give: port_name}"
                self.reader.add(
                    Code.MISSING_KEY,
                    f"lookup of {draft.name} does not say {key}",
                    body,
                    hint,
                )
        # Missing members were noted above; what is there is read all the same, for its own
        # mistakes.
        into = self.reader.scalar(body.get("in"), "in")
        by = self.reader.scalars(body.get("by"), "by")
        give = self.reader.scalar(body.get("give"), "give")
        across = self.reader.choice(body.get("across"), "across", ("run",))
        return (
            LookupDraft(body, into, by, give, across == "run")
            if into and by and give
            else None
        )

    def at(
        self, draft: FieldDraft, node: Node, take: str | None, separator: str
    ) -> At | None:
        if isinstance(node, Sequence):
            paths = [
                self.reader.path(item, f"path of {draft.name}") for item in node.items
            ]
            if not paths:
                self.reader.add(
                    Code.WRONG_VALUE, f"{draft.name} has an empty list of paths", node
                )
        else:
            paths = [self.reader.path(node, f"path of {draft.name}")]
        paths_read = tuple(path for path in paths if path is not None)
        # One path that can't be read takes the field away: without it another value could be taken.
        return (
            At(paths_read, cast(Take, take or "only"), separator)
            if paths_read and len(paths_read) == len(paths)
            else None
        )

    def reading(
        self, draft: FieldDraft, source_key: str, body: Mapping
    ) -> TypeSpec | None:
        """The declared type with its options; the default type; None where what the field is made
        of decides.
        """
        if source_key in ("lookup", "parent"):
            self.no_type(source_key, body)
            return None
        default = _default_type(draft.source)
        base = self.types.of_field(body.get("type"), f"type of {draft.name}")
        if base is None and "type" in body.entries:
            # Noted; neither its options nor what is computed from it can be judged.
            draft.untyped = True
            return TypeSpec(default)
        if base is None and source_key == "compute":
            self.no_options(body)
            return None
        reading = self.types.with_options(
            base or self.types.with_defaults(TypeSpec(default)), body
        )
        self.check_take(draft, reading, body)
        return reading

    def no_options(self, body: Mapping) -> None:
        """What is computed has the type of its expression, which no option changes."""
        given = [name for name in OPTION_NAMES if name in body.entries]
        if given:
            self.reader.add(
                Code.WRONG_OPTION,
                f"{given[0]} needs a type here",
                body.key(given[0]),
                "say type as well",
            )

    def no_type(self, source_key: str, body: Mapping) -> None:
        for name in ("type", *OPTION_NAMES):
            if name in body.entries:
                # Each option that has no place is told, not the first alone.
                message = (
                    f"{name} has no place beside {source_key}: the type is that of the "
                    "field taken"
                )
                self.reader.add(
                    Code.WRONG_OPTION,
                    message,
                    body.key(name),
                    "a field with compute can convert it",
                )

    def check_take(self, draft: FieldDraft, reading: TypeSpec, body: Mapping) -> None:
        if not isinstance(draft.source, At):
            return
        take = draft.source.take
        if take in GATHERINGS and not can_gather(cast(Gathering, take), reading.type):
            wants = {"sum": "a number", "join": "text"}.get(
                take, "a type with an order"
            )
            # Without a type it is a text, of which there is no sum.
            hint = "say type: integer, or another number" if take == "sum" else None
            self.reader.add(
                Code.WRONG_VALUE,
                f"take: {take} wants {wants}, not {reading.type.name}",
                body.key("take"),
                hint,
            )
        if draft.source.take == "all" and not isinstance(reading.type, ListOf):
            self.reader.add(
                Code.WRONG_VALUE,
                f"take: all gives a list, but the type is {reading.type.name}",
                body.key("type"),
                "say list(text)",
            )

    def properties(self, draft: FieldDraft, body: Mapping) -> None:
        draft.required = self.reader.flag(body.get("required"), "required")
        draft.keep = self.reader.flag(body.get("keep"), "keep", default=True)
        draft.bad = policy(self.reader, body.get("bad")) or self.policy
        draft.note = self.reader.text(body.get("note"), "note")
        draft.measured_in = self.reader.text(body.get("measured_in"), "measured_in")
        draft.title = self.reader.text(body.get("title"), "title")
        default = body.get("default")
        # An empty text is a default, `default:` with nothing behind it is none.
        if isinstance(default, Scalar | Sequence) and not (
            isinstance(default, Scalar) and default.empty
        ):
            draft.default = default
        elif isinstance(default, Mapping):
            self.reader.add(
                Code.WRONG_VALUE, "default is a text, not a mapping", default
            )
        if draft.required and draft.default is not None:
            self.reader.add(
                Code.WRONG_OPTION,
                f"{draft.name} is required and has a default",
                body.key("default"),
                "keep one of them",
            )


def typed_scalar(
    reader: Reader, scalar: Scalar | Sequence, reading: TypeSpec, what: str
) -> object:
    """A text of the rules file read as a field's type; None with a problem noted if that fails.

    `capture` is left out: it takes values out of what stands around them in the response, and
    nothing does here. ISO 8601 is a good form of dates and times, whatever that of the response is.
    """
    options = replace(reading.options, capture=None)
    if "iso" not in options.format:
        options = replace(options, format=(*options.format, "iso"))
    reading = TypeSpec(reading.type, options)
    value: JsonValue
    if isinstance(scalar, Sequence):
        value = [item.text for item in reader.scalars(scalar, what)]
        if not isinstance(reading.type, ListOf):
            reader.add(
                Code.WRONG_VALUE,
                f"{what} is a list, but the type is {reading.type.name}",
                scalar,
            )
            return None
    else:
        value = scalar.text
        if isinstance(reading.type, Json) and not scalar.empty:
            with suppress(NotJson):
                value = decode(
                    scalar.text.encode()
                )  # JSON text as it stands in a cell; any other text is a string
    try:
        return reading.read(value)
    except Bad as bad:
        reader.add(
            Code.WRONG_VALUE,
            f"{what} can't be read as {reading.type.name}",
            scalar,
            f"expected {bad.expected}",
        )
        return None


def _default_type(source: object) -> ValueType:
    """The type of a field for which none is declared."""
    if isinstance(source, Fact):
        return _FACT_TYPES.get(source.name, Text())
    if isinstance(source, At) and source.take == "all":
        return ListOf(Text())
    if isinstance(source, At) and source.take == "count":
        return Integer()
    return Text()
