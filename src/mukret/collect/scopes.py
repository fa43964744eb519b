"""Which variables are known where in a calls file, and what is said of those that are not."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from mukret.codes import Code
from mukret.collect.calls import (
    Call,
    Calls,
    InQuery,
    NumberPages,
    OffsetPages,
    SignInCall,
)
from mukret.collect.templates import (
    VARIABLE,
    NotFilled,
    names_in_address,
    names_in_text,
)
from mukret.rules.source import Mapping, Node, Problems, Scalar, Sequence
from mukret.text import did_you_mean

# A variable, the text in which it stands, and where in it.
Use = tuple[str, Scalar, int]


def check_scopes(calls: Calls, top: Mapping, problems: Problems) -> None:
    """Notes variables that nothing gives a value, and names that two things have."""
    constants = [name for name, _ in calls.constants]
    kept = (
        [value.name for value in calls.sign_in.keep]
        if isinstance(calls.sign_in, SignInCall)
        else []
    )
    sign_in = top.get("sign_in")
    if isinstance(sign_in, Mapping):
        _check(_uses(sign_in, ("get", "post")), constants, "sign_in", problems)
        _clashes(sign_in.get("keep"), constants, problems)
    # A sign-in knows constants alone: what it keeps is there afterwards.
    shared = [*constants, *kept]
    for section in ("headers", "query"):
        _check(_pair_uses(top.get(section)), shared, section, problems)
    bodies = top.get("calls")
    for call in calls.calls:
        body = bodies.get(call.name) if isinstance(bodies, Mapping) else None
        if isinstance(body, Mapping):
            known = [*shared, *variables_of(call, calls), *_of_pages(call)]
            _check(_uses(body, ("get", "post")), known, call.name, problems)
            once_per = body.get("once_per")
            if isinstance(once_per, Mapping):
                above = [*shared, *_above(call, calls)]
                _clashes(once_per.get("with"), above, problems)


def variables_of(call: Call, calls: Calls) -> list[str]:
    """The variables that records give: of the call and of the calls above it."""
    names = [name for name, _ in call.once_per.variables] if call.once_per else []
    return [*names, *_above(call, calls)]


def _above(call: Call, calls: Calls) -> list[str]:
    by_name = {each.name: each for each in calls.calls}
    names: list[str] = []
    seen = {call.name}
    while (
        call.once_per is not None
        and call.once_per.call in by_name
        # A circle is told as a problem of its own, and must not keep the reader here.
        and call.once_per.call not in seen
    ):
        call = by_name[call.once_per.call]
        seen.add(call.name)
        names += [name for name, _ in call.once_per.variables] if call.once_per else []
    return names


def _of_pages(call: Call) -> list[str]:
    """A page may be told by a variable of the address."""
    pages = call.pages
    if isinstance(pages, NumberPages | OffsetPages) and isinstance(
        pages.target, InQuery
    ):
        return [pages.target.name]
    return []


def _check(
    uses: Iterable[Use], known: list[str], where: str, problems: Problems
) -> None:
    for name, scalar, offset in uses:
        if name not in known:
            hint = did_you_mean(name, known)
            hint = hint or (
                "with: {NAME: value} gives one to all calls, once_per: {with: …} takes one "
                "from answers"
            )
            # The whole text is one variable: somebody may have meant the braces themselves.
            if VARIABLE.fullmatch(scalar.text):
                hint = f"{hint}; braces that are meant as they stand: {{ {name} }}"
            problems.add(
                Code.UNKNOWN_VARIABLE,
                f"{where}: nothing says what {name} is",
                scalar,
                hint,
                offset,
            )


def _clashes(node: Node | None, above: list[str], problems: Problems) -> None:
    for key, _ in node.entries.values() if isinstance(node, Mapping) else ():
        # The inner one would hide the outer, and nobody would see which is sent.
        if key.text in above:
            problems.add(
                Code.NAME_CLASH,
                f"the variable {key.text} has a value already",
                key,
                "give it another name",
            )


def _uses(body: Mapping, addresses: tuple[str, ...]) -> Iterator[Use]:
    for key in addresses:
        address = body.get(key)
        if isinstance(address, Scalar):
            yield from _address_uses(address)
    for key in ("headers", "query", "form"):
        yield from _pair_uses(body.get(key))
    yield from _body_uses(body.get("json"))


def _address_uses(scalar: Scalar) -> Iterator[Use]:
    try:
        names = names_in_address(scalar.text)
    except NotFilled:  # noted where the address was read
        return
    for name, offset in names:
        yield name, scalar, offset


def _pair_uses(node: Node | None) -> Iterator[Use]:
    for _, value in node.entries.values() if isinstance(node, Mapping) else ():
        for item in value.items if isinstance(value, Sequence) else (value,):
            if isinstance(item, Scalar):
                for name, offset in names_in_text(item.text):
                    yield name, item, offset


def _body_uses(node: Node | None) -> Iterator[Use]:
    # A text of its own: within others braces are part of a body.
    if isinstance(node, Scalar) and (match := VARIABLE.fullmatch(node.text)):
        yield match[1], node, 0
    elif isinstance(node, Sequence):
        for item in node.items:
            yield from _body_uses(item)
    elif isinstance(node, Mapping):
        for _, value in node.entries.values():
            yield from _body_uses(value)
