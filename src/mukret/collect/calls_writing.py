"""Calls written as a file, to go on from."""

from __future__ import annotations

import dataclasses
import io
from typing import Any

from mukret.codes import Code
from mukret.collect.calls import (
    AddressPages,
    Basic,
    Bearer,
    Body,
    Call,
    Calls,
    CursorPages,
    Ends,
    InBody,
    InHeader,
    Kept,
    Limits,
    LinkPages,
    NumberPages,
    OAuth2,
    OffsetPages,
    Pages,
    Pairs,
    Secret,
    SignIn,
    SignInCall,
    Target,
)
from mukret.collect.masking import is_sensitive
from mukret.collect.templates import VARIABLE
from mukret.errors import OutputError, UsageError
from mukret.types.durations import UNITS
from mukret.values import JsonValue


def write_calls(calls: Calls, path: str) -> None:
    """Writes a calls file that `load_calls` reads as the same calls.

    Raises OutputError, never overwriting a file; UsageError if a value that looks like a secret
    would be written.
    """
    _refuse_secrets(calls)
    text = io.StringIO()
    _yaml().dump(_plain(calls), text)
    try:
        # Never over a file that is there: somebody may have edited it.
        with open(path, "x", encoding="utf-8") as file:
            file.write(text.getvalue())
    except FileExistsError:
        raise OutputError(
            Code.NOT_EMPTY,
            f"{path} is there already",
            hint="name another file, or remove it",
        ) from None
    except OSError as error:
        raise OutputError(
            Code.NOT_WRITTEN, f"{path}: {(error.strerror or str(error)).lower()}"
        ) from None


def _refuse_secrets(calls: Calls) -> None:
    pairs = [*calls.headers, *calls.query]
    for call in calls.calls:
        pairs += [*call.query, *call.headers]
    for name, value in pairs:
        # By the name alone: what a value is worth nobody can see in it.
        if isinstance(value, str) and is_sensitive(name) and not VARIABLE.search(value):
            message = (
                f"the value of {name} looks like a secret and is not written to a file"
            )
            hint = (
                "--header-from and --query-from take a value from the environment, and the "
                "file its name"
            )
            raise UsageError(Code.USAGE, message, hint=hint)


def _yaml() -> Any:
    from ruamel.yaml import YAML

    yaml = YAML()
    yaml.default_flow_style = None
    yaml.width = 120
    return yaml


def _plain(calls: Calls) -> dict[str, JsonValue]:
    file: dict[str, JsonValue] = {"mukret": 1, "base": calls.base}
    if calls.constants:
        file["with"] = {name: _content(value) for name, value in calls.constants}
    if calls.sign_in:
        file["sign_in"] = _sign_in(calls.sign_in)
    for name, pairs in (("headers", calls.headers), ("query", calls.query)):
        file |= {name: _pairs(pairs)} if pairs else {}
    file["calls"] = {call.name: _call(call) for call in calls.calls}
    if calls.origins:
        file["origins"] = list(calls.origins)
    usual = Limits()
    # What is usual is left out, so that the file says what somebody meant.
    limits = {
        field.name: getattr(calls.limits, field.name)
        for field in dataclasses.fields(Limits)
        if getattr(calls.limits, field.name) != getattr(usual, field.name)
    }
    return file | ({"limits": limits} if limits else {})


def _call(call: Call) -> dict[str, JsonValue]:
    section_of_call: dict[str, JsonValue] = {}
    if call.url is not None:
        section_of_call["url"] = _text(call.url.text)
    else:
        section_of_call[call.method.lower()] = call.address
    for name, pairs in (("query", call.query), ("headers", call.headers)):
        # Keys with nothing behind them would look like something to fill in.
        section_of_call |= {name: _pairs(pairs)} if pairs else {}
    section_of_call |= _body(call.body)
    if call.pages is not None:
        section_of_call["pages"] = _pages(call.pages)
    if call.once_per is not None:
        section: dict[str, JsonValue] = {"call": call.once_per.call}
        section |= (
            {"rows": _text(call.once_per.rows.text)} if call.once_per.rows else {}
        )
        variables = {name: _text(path.text) for name, path in call.once_per.variables}
        section_of_call["once_per"] = section | (
            {"with": variables} if variables else {}
        )
    return section_of_call


def _pages(pages: Pages) -> dict[str, JsonValue]:
    match pages:
        case CursorPages(path, header, target):
            cursor = _text(path.text) if path else {"header": header}
            section: dict[str, JsonValue] = {"cursor": cursor, "as": _target(target)}
        case LinkPages(relation):
            section = {"link": relation}
        case AddressPages(path):
            section = {"url": _text(path.text)}
        case NumberPages(target, first):
            # What is the default is left out, as somebody would write it.
            section = {"number": _target(target)} | (
                {"first": first} if first != 1 else {}
            )
        case OffsetPages(target, first, step):
            section = (
                {"offset": _target(target)}
                | ({"first": first} if first else {})
                | ({"step": step} if step else {})
            )
    return section | _ends(pages.ends)


def _ends(ends: Ends) -> dict[str, JsonValue]:
    named = {
        "list": ends.records,
        "total": ends.total,
        "pages": ends.pages,
        "more": ends.more,
    }
    return {name: _text(path.text) for name, path in named.items() if path is not None}


def _target(target: Target) -> Any:
    match target:
        case InHeader(name):
            return {"header": name}
        case InBody(text=text):
            return _text(text)
    return target.name


def _sign_in(way: SignIn) -> dict[str, JsonValue]:
    match way:
        case Basic(user, password):
            return {"basic": {"user": _content(user), "password": _content(password)}}
        case Bearer(token):
            return {"bearer": _content(token)}
        case OAuth2(token, client, secret, scope, in_body):
            members = {
                "token": token,
                "client": _content(client),
                "secret": _content(secret),
            }
            # What is not given is not written.
            members |= {"scope": scope} if scope else {}
            return {"oauth2": members | ({"send": "body"} if in_body else {})}
        case SignInCall():
            called: dict[str, JsonValue] = {way.method.lower(): way.address}
            for name, pairs in (("query", way.query), ("headers", way.headers)):
                called |= {name: _pairs(pairs)} if pairs else {}
            called |= _body(way.body)
            return called | (
                {"keep": {kept.name: _kept(kept) for kept in way.keep}}
                if way.keep
                else {}
            )


def _kept(kept: Kept) -> Any:
    # The short form, which says the same.
    if kept.lasts is None:
        return _text(kept.path.text) if kept.path else {"header": kept.header}
    members: dict[str, JsonValue] = (
        {"at": _text(kept.path.text)} if kept.path else {"header": kept.header}
    )
    if kept.lasts.until:
        return members | {"until": _text(kept.lasts.path.text)}
    members["lasts"] = _text(kept.lasts.path.text)
    unit = next(
        name for name, size in UNITS.items() if size / UNITS["s"] == kept.lasts.unit
    )
    return members | ({"unit": unit} if unit != "s" else {})


def _body(body: Body | None) -> dict[str, JsonValue]:
    if body is None:
        return {}
    return {"form" if body.form else "json": _content(body.content)}


def _pairs(pairs: Pairs) -> dict[str, JsonValue]:
    """Names with their values; a name that comes several times has a list."""
    values: dict[str, JsonValue] = {}
    for name, value in pairs:
        # A name may come several times in a query; a mapping has it once.
        if name not in values:
            values[name] = _content(value)
        else:
            before = values[name]
            values[name] = [
                *(before if isinstance(before, list) else [before]),
                _content(value),
            ]
    return values


def _content(value: JsonValue | Secret) -> Any:
    # The name of the variable; what it holds is never read here.
    if isinstance(value, Secret):
        return {"secret": value.variable}
    if isinstance(value, str):
        return _text(value)
    if isinstance(value, dict):
        return {name: _content(item) for name, item in value.items()}
    return [_content(item) for item in value] if isinstance(value, list) else value


def _text(text: str) -> Any:
    from ruamel.yaml.scalarstring import DoubleQuotedScalarString

    return DoubleQuotedScalarString(text)
