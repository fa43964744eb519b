"""A draft for the answers of several calls: one for each, put together, its tables reading the
answers of that call.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from mukret.documents import Source
from mukret.drafting.model import Draft, DraftField, DraftTable
from mukret.drafting.names import fresh, snake_case
from mukret.rules.sources import REQUEST_FACT
from mukret.values import JsonValue, json_text


def sources_by_call(sources: Sequence[Source]) -> dict[str, list[Source]]:
    """The sources of each call, in the order of the calls; nothing if not all of them are answers
    of a call.
    """
    by_call: dict[str, list[Source]] = {}
    for source in sources:
        call = source.origin.call if source.origin else None
        if not call:
            return {}
        by_call.setdefault(call, []).append(source)
    return by_call


def with_variables(draft: Draft, sources: Sequence[Source]) -> Draft:
    """The draft with what tells the answers of its call apart: variables of requests that are not
    always the same.
    """
    values: dict[str, set[str]] = {}
    for source in sources:
        for name, value in source.origin.variables.items() if source.origin else ():
            values.setdefault(name, set()).add(json_text(value))
    for table in draft.tables:
        for name, different in values.items() if table.within is None else ():
            # A variable that is always the same tells no answer from another.
            if len(different) > 1 and snake_case(name) not in table.names():
                field = DraftField(snake_case(name), {"fact": REQUEST_FACT + name})
                field.comment = "what the service was asked with"
                table.fields.insert(0, field)
    return draft


def together(title: str, drafts: Mapping[str, Draft]) -> Draft:
    """One draft out of those of several calls; names that two of them have get that of their call
    before them.
    """
    whole = Draft(title)
    for call, draft in drafts.items():
        prefix = snake_case(call)
        _rename_enums(draft, whole, prefix)
        _rename_response(draft, whole, prefix)
        _rename_tables(draft, whole, prefix)
        for table in draft.tables:
            # Each call is a kind of answer, so that its rules meet no other one.
            if table.within is None:
                table.options = {"kind": call, **table.options}
        whole.tables += draft.tables
        whole.ignored |= draft.ignored
        whole.embedded += tuple(
            path for path in draft.embedded if path not in whole.embedded
        )
        whole.bad_documents += draft.bad_documents
    return whole


def _rename_enums(draft: Draft, whole: Draft, prefix: str) -> None:
    new: dict[str, str] = {}
    for name, words in draft.enums.items():
        # Calls may have words of one name that differ: each keeps its own.
        same = whole.enums.get(name, words) == words
        new[name] = name if same else fresh(f"{prefix}_{name}", whole.enums)
        whole.enums[new[name]] = words
    for field in [
        *draft.response,
        *(field for table in draft.tables for field in table.fields),
    ]:
        if field.reading.get("type") in new:
            field.reading["type"] = new[str(field.reading["type"])]


def _rename_response(draft: Draft, whole: Draft, prefix: str) -> None:
    """Adds the fields of the response; one that is read alike stands there once."""
    taken = _names_in(whole)
    new: dict[str, str] = {}
    for own_field in draft.response:
        alike = next(
            (
                field
                for field in whole.response
                if (field.source, field.reading)
                == (own_field.source, own_field.reading)
            ),
            None,
        )
        if alike is not None:
            new[own_field.name] = alike.name
            continue
        new[own_field.name] = (
            own_field.name
            if own_field.name not in taken
            else fresh(f"{prefix}_{own_field.name}", taken)
        )
        own_field.name = new[own_field.name]
        own_field.required = False  # the answers of other calls don't have it
        whole.response.append(own_field)
    for table in draft.tables:
        inherited = {name: new.get(name, name) for name in table.inherit}
        table.key = [inherited.get(name, name) for name in table.key]
        table.inherit = list(inherited.values())


def _rename_tables(draft: Draft, whole: Draft, prefix: str) -> None:
    taken = _names_in(whole)
    new: dict[str, str] = {}
    for table in draft.tables:
        new[table.name] = (
            table.name
            if table.name not in taken
            else fresh(f"{prefix}_{table.name}", taken)
        )
        table.name = new[table.name]
        taken.add(table.name)
    # A field can't be named like a table, also like one of another call.
    others = {table.name for table in whole.tables} | {
        field.name for field in whole.response
    }
    for table in draft.tables:
        for field in table.fields:
            if "lookup" in field.source:
                field.source = field.source | {
                    "lookup": _renamed(field.source["lookup"], new)
                }
            if field.name in others:
                _rename_field(table, field, others)


def _rename_field(table: DraftTable, field: DraftField, others: set[str]) -> None:
    """A field that has the name of a table gets another: expressions tell them apart by their
    names.
    """
    name = fresh(f"{field.name}_", table.names() | others)
    renamed = {field.name: name}
    table.key = [renamed.get(key, key) for key in table.key]
    field.name = name


def _renamed(lookup: JsonValue, new: Mapping[str, str]) -> JsonValue:
    """A lookup in a table that has another name now."""
    return {**lookup, "in": new.get(lookup["in"], lookup["in"])}


def _names_in(draft: Draft) -> set[str]:
    names = {"response"} | {field.name for field in draft.response}
    for table in draft.tables:
        names |= {table.name} | table.names()
    return names
