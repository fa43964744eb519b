"""Variables in addresses, texts and bodies, put in their places.

In an address they stand as RFC 6570 has them; in a header, in the query and in a form `{name}`
stands for one; in a JSON body a whole text `"{name}"` does, and takes the variable's type. A body
is not searched for parts of texts: queries in GraphQL are full of braces.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from urllib.parse import unquote, urlsplit

from uritemplate import URITemplate

from mukret.collect.calls import Secret
from mukret.values import JsonValue, scalar_text

VARIABLE = re.compile(r"\{([A-Za-z_]\w*)\}", re.ASCII)
# Expressions of a URI Template that leave nothing behind where a variable is missing.
#
# `{?a}`, `{/a}` and their like take their mark away with it, so what they hold is optional.
_REQUIRED = re.compile(r"\{\+?([^{}?&/;#.+][^{}]*)\}")
_BRACES = re.compile(r"\{[^{}]*\}")
_VARSPEC = r"\w[\w.]*(?::[1-9]\d{0,3}|\*)?"
_EXPRESSION = re.compile(rf"\{{[+#./;?&]?{_VARSPEC}(?:,{_VARSPEC})*\}}", re.ASCII)
_DOTS = frozenset([".", ".."])


class NotFilled(Exception):
    """A template that can't be filled, with what is wrong in words; `names` are the variables that
    it lacks.
    """

    def __init__(self, why: str, names: tuple[str, ...] = ()) -> None:
        super().__init__(why)
        self.names = names


def names_in_text(text: str) -> list[tuple[str, int]]:
    """The variables of a header, a query or a form, each with the character at which its braces
    open.
    """
    return [(match[1], match.start()) for match in VARIABLE.finditer(text)]


def names_in_address(template: str) -> list[tuple[str, int]]:
    """The variables of a URI Template. Raises NotFilled where it is not a template."""
    if template.count("{") != template.count("}"):
        raise NotFilled("a brace is not closed")
    for match in _BRACES.finditer(template):
        # The library takes what it doesn't know for literal text.
        if not _EXPRESSION.fullmatch(match[0]):
            raise NotFilled(f"{match[0]} is no expression of a URI Template")
    names = URITemplate(template).variable_names
    return [(str(name), max(0, template.find(str(name)) - 1)) for name in names]


def names_in_body(content: JsonValue) -> list[str]:
    """The variables of a JSON body."""
    if isinstance(content, str):
        match = VARIABLE.fullmatch(content)
        return [match[1]] if match else []
    if isinstance(content, dict):
        return [name for value in content.values() for name in names_in_body(value)]
    if isinstance(content, list):
        return [name for value in content for name in names_in_body(value)]
    return []


def filled_text(text: str, known: Mapping[str, JsonValue]) -> str:
    """A text with its variables. Raises NotFilled for one that is missing or has no text."""

    def value_of(match: re.Match[str]) -> str:
        return _text_of(match[1], known)

    return VARIABLE.sub(value_of, text)


def filled_address(template: str, known: Mapping[str, JsonValue]) -> str:
    """An address, or the rest of one, with its variables (RFC 6570).

    A variable that nobody knows may only stand where it is optional, as in `{?lang}`. Raises
    NotFilled for any other, and where a value would lead to another folder: what stood in a
    response is never a way.
    """
    if "{" not in template and "}" not in template:
        return template
    names = [name for name, _ in names_in_address(template)]
    given = [name for name in names if known.get(name) is not None]
    # Before values are looked at: a name that nobody gives is the plainer mistake.
    missing = tuple(name for name in _required(template) if name not in given)
    if missing:
        raise NotFilled(f"nothing says what {' and '.join(missing)} is", missing)
    values = {name: _text_of(name, known) for name in given}
    address = URITemplate(template).expand(None, **values)
    # The library encodes slashes, and leaves dots as they are.
    if _has_dots(address) and not _has_dots(template):
        raise NotFilled("a value is . or .. and would lead to another address")
    return address


def _required(template: str) -> list[str]:
    """The variables without which a URI Template can't be filled."""
    required: list[str] = []
    for match in _REQUIRED.finditer(template):
        for variable in match[1].split(","):
            required.append(variable.partition(":")[0].rstrip("*").strip())
    return required


def _has_dots(address: str) -> bool:
    """Whether a folder of its path is . or .. in any form, which leads elsewhere."""
    return any(
        unquote(segment) in _DOTS for segment in urlsplit(address).path.split("/")
    )


def filled_body(
    content: JsonValue, known: Mapping[str, JsonValue], secret: Mapping[Secret, str]
) -> JsonValue:
    """A body with its variables and secrets. Raises NotFilled."""
    if isinstance(content, Secret):
        return secret[content]
    if isinstance(content, str):
        match = VARIABLE.fullmatch(content)
        if match is None:
            return content
        if match[1] not in known:
            raise NotFilled(f"nothing says what {match[1]} is", (match[1],))
        # The value as it is: a number stays one in JSON.
        return known[match[1]]
    if isinstance(content, dict):
        return {
            name: filled_body(value, known, secret) for name, value in content.items()
        }
    if isinstance(content, list):
        return [filled_body(value, known, secret) for value in content]
    return content


def _text_of(name: str, known: Mapping[str, JsonValue]) -> str:
    value = known.get(name)
    text = scalar_text(value)
    if text is None:
        kind = "null or missing" if value is None else "no text or number"
        raise NotFilled(f"{name} is {kind}", (name,))
    # An empty step would be another address.
    if text == "":
        raise NotFilled(f"{name} is empty", (name,))
    return text
