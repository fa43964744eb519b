"""What a collection would ask, shown without asking it."""

from __future__ import annotations

import json
import os

import click

from mukret.cli.views.screen import aligned
from mukret.collect import Calls
from mukret.collect.calls import (
    AddressPages,
    Basic,
    Bearer,
    Body,
    Call,
    CursorPages,
    InBody,
    InHeader,
    Kept,
    LinkPages,
    NumberPages,
    OAuth2,
    OffsetPages,
    Pairs,
    Secret,
    SignInCall,
    Target,
)
from mukret.collect.masking import MASK
from mukret.collect.wire import joined, shown_first, shown_value
from mukret.text import counted, escaped
from mukret.values import JsonValue, json_text

Line = dict[str, JsonValue]


def print_plan(calls: Calls, *, as_json: bool) -> None:
    """Prints the first request of each call, secrets masked."""
    lines = plan_lines(calls)
    # A secret that is not set would fail at the first request, after all this was read.
    missing = sorted(
        {
            secret.variable
            for secret in calls.secrets()
            if not os.environ.get(secret.variable)
        }
    )
    if as_json:
        click.echo(
            json.dumps(
                {"requests": lines, "variables_not_set": missing},
                indent=2,
                ensure_ascii=False,
            )
        )
        return
    limits = calls.limits
    tries = counted(limits.tries, "try", "tries")
    pace = f"at most {limits.per_second:g} a second, {limits.at_once} at once, {tries} each"
    click.echo(f"Nothing is sent. This would be asked, {pace}:")
    rows = [[line["call"], line["method"], line["url"]] for line in lines]
    for line, text in zip(lines, aligned(rows), strict=True):
        click.secho(f"  {escaped(text)}", bold=True)
        for key in ("once_per", "headers", "body", "pages", "keeps"):
            if key in line:
                click.echo(
                    f"      {key.replace('_', ' ')}: {escaped(_line_text(line[key]))}"
                )
    for variable in missing:
        click.secho(f"  the environment has no {variable}", fg="yellow", err=True)


def plan_lines(calls: Calls) -> list[Line]:
    lines = [_sign_in(calls)] if calls.sign_in else []
    return lines + [_call(call, calls) for call in calls.calls]


def _call(call: Call, calls: Calls) -> Line:
    line: Line = {
        "call": call.name,
        "method": call.method,
        "url": shown_first(calls, call.name),
    }
    if call.once_per is not None:
        once_per = call.once_per
        rows = once_per.rows.text if once_per.rows else None
        paths = ", ".join(f"{name} at {path.text}" for name, path in once_per.variables)
        line["once_per"] = " ".join(
            word for word in (f"answer of {once_per.call},", rows, paths) if word
        ).rstrip(",")
    # Headers of the call come after those of all calls, and win.
    headers = _masked((*calls.headers, *call.headers)) | _authorization(calls)
    if headers:
        line["headers"] = headers
    if call.method == "POST":
        line["body"] = _body(call.body)
    if call.pages is not None:
        line["pages"] = _pages(call.pages)
    return line


def _authorization(calls: Calls) -> dict[str, str]:
    match calls.sign_in:
        case Basic():
            return {"Authorization": f"Basic {MASK}"}
        case Bearer() | OAuth2():
            return {"Authorization": f"Bearer {MASK}"}
    return {}


def _sign_in(calls: Calls) -> Line:
    match calls.sign_in:
        case OAuth2(token, scope=scope):
            form = {"grant_type": "client_credentials"} | (
                {"scope": scope} if scope else {}
            )
            line: Line = {
                "call": "sign_in",
                "method": "POST",
                "url": _address(token, calls),
                "body": json_text(form),
            }
            return line | {"keeps": "the access token"}
        case SignInCall() as way:
            line = {
                "call": "sign_in",
                "method": way.method,
                "url": _address(way.address, calls),
            }
            line |= {"headers": _masked(way.headers)} if way.headers else {}
            line |= {"body": _body(way.body)} if way.body else {}
            kept = [f"{value.name} from {_found_at(value)}" for value in way.keep]
            return line | ({"keeps": ", ".join(kept)} if kept else {})
    variables = ", ".join(secret.variable for secret in calls.secrets())
    # No request of its own: it goes along with each.
    return {"call": "sign_in", "method": "-", "url": f"by what stands in {variables}"}


def _address(address: str, calls: Calls) -> str:
    return address if "://" in address else joined(calls.base, address)


def _masked(pairs: Pairs) -> dict[str, str]:
    return {name: shown_value(value) for name, value in pairs}


def _body(body: Body | None) -> str:
    return json_text(_hidden(body.content), spaced=True) if body else "{}"


def _hidden(content: JsonValue) -> JsonValue:
    if isinstance(content, Secret):
        return MASK
    if isinstance(content, dict):
        return {name: _hidden(value) for name, value in content.items()}
    return (
        [_hidden(value) for value in content] if isinstance(content, list) else content
    )


def _pages(pages: object) -> str:
    match pages:
        case CursorPages(path, header, target):
            return (
                f"by the cursor at {path.text if path else f'the header {header}'}, sent as "
                f"{_target(target)}"
            )
        case LinkPages(relation):
            return f"by the header Link with rel={relation}"
        case AddressPages(path):
            return f"by the address at {path.text}"
        case NumberPages(target, first):
            return f"by number, from {first} on, sent as {_target(target)}"
        case OffsetPages(target, first):
            return f"by offset, from {first} on, sent as {_target(target)}"
    # A new way of paging that is not told here is our mistake, and seen in the tests.
    raise AssertionError(pages)


def _target(target: Target) -> str:
    match target:
        case InHeader(name):
            return f"the header {name}"
        case InBody(text=text):
            return f"{text} in the body"
    return target.name


def _line_text(value: JsonValue) -> str:
    return (
        ", ".join(f"{name}: {text}" for name, text in value.items())
        if isinstance(value, dict)
        else str(value)
    )


def _found_at(kept: Kept) -> str | None:
    """Where a value that is kept stands in the answer: a path in its body, or a header."""
    return kept.path.text if kept.path else kept.header
