"""`mukret merge`: parts, extracted on several machines, into one delivery."""

from __future__ import annotations

import json
from dataclasses import dataclass

import click

from mukret.cli.handlers.delivering import DeliveryRequest
from mukret.cli.handlers.inputs import loaded_rules
from mukret.cli.views.delivery import headline, print_outcome, where_rejects_are
from mukret.destinations.deliver import deliver_extraction
from mukret.parts.merging import Merge
from mukret.parts.reading import Part
from mukret.text import counted


@dataclass(frozen=True, kw_only=True)
class Request(DeliveryRequest):
    """What was typed after `mukret merge`."""

    parts: tuple[str, ...]
    rules: str | None


def handle(request: Request) -> int:
    request.start_log()
    request.refuse_nonsense()
    limit = request.reject_limit()
    parts = [Part(folder) for folder in request.parts]
    # The parts say which rules made them; given ones are checked against those.
    rules = loaded_rules(request.rules or parts[0].record["rules"]["file"])
    merge = Merge(rules, parts)
    destination = request.destination(rules)
    record = deliver_extraction(merge.extraction, destination, limit, request.options)
    notices = merge.notices()
    if request.as_json:
        click.echo(json.dumps(record, indent=2, ensure_ascii=False))
    elif not request.quiet:
        documents = sum(told["documents"] for told in record["inputs"])
        told = headline(documents, len(record["inputs"]), request.target)
        click.echo(f"{counted(len(parts), 'part')}: {told}", err=True)
        print_outcome(merge.tally, rules, notices, where_rejects_are(request.target))
    return request.exit_code(
        findings=bool(merge.tally.findings), warnings=bool(notices)
    )
