"""A part on the disk: a folder with the rows of each table before their keys are resolved, block by
block.

`TABLE.arrow` (Arrow IPC) has a record batch for each block, `blocks.jsonl` a line, `rejects.jsonl`
as many lines as that one says; `run.json` is the record, with `part` in it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass

from mukret.values import JsonValue

BLOCKS = "blocks.jsonl"
REJECTS = "rejects.jsonl"
ENDING = ".arrow"


@dataclass(frozen=True)
class BlockLine:
    """A block: the number of its input among all, whether it is `whole` (`UnresolvedBlock`), how
    many rejects it has, and the tables that are met in it; the others have an empty record batch.
    """

    input: int
    whole: bool
    rejects: int
    tables: Sequence[str]

    def as_json(self) -> dict[str, JsonValue]:
        return asdict(self)
