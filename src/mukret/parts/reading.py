"""Parts on the disk → blocks in the order of the input."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

import pyarrow as pa

from mukret.codes import Code
from mukret.destinations.publish import RUN_FILE
from mukret.documents import decode
from mukret.engine.key_resolution import UnresolvedBlock
from mukret.errors import InputError
from mukret.parts.format import BLOCKS, ENDING, REJECTS, BlockLine
from mukret.semantics.rejects import Problem, Reject
from mukret.values import JsonValue


@dataclass(frozen=True)
class MergedBlock:
    """The rows of a block, and what was rejected in it."""

    rows: UnresolvedBlock
    rejects: Sequence[Reject]


class Part:
    """A part that is read from its beginning to its end."""

    def __init__(self, folder: str) -> None:
        """Raises InputError for what is no part."""
        self.folder = folder
        self.place = Path(folder)
        try:
            self.record: dict[str, JsonValue] = json.loads(
                (self.place / RUN_FILE).read_bytes()
            )
            self.share: Mapping[str, JsonValue] = self.record["part"]
        except OSError as error:
            reason = (error.strerror or str(error)).lower()
            raise InputError(
                Code.NOT_OPENED, f"{folder}: no part: {RUN_FILE}: {reason}"
            ) from None
        # A folder of an ordinary run, most often.
        except (ValueError, KeyError, TypeError):
            hint = "mukret extract … --part 1/4 --to FOLDER writes one"
            raise InputError(
                Code.NOT_OPENED, f"{folder} is no part", hint=hint
            ) from None
        self.names = {read["number"]: read["file"] for read in self.record["inputs"]}

    def blocks(self, tables: Sequence[str]) -> Iterator[tuple[int, MergedBlock]]:
        """Each with the number of its input.

        Raises InputError where the part is not as it was written.
        """
        try:
            yield from self._blocks(tables)
        except (OSError, pa.ArrowException, ValueError, KeyError, TypeError) as error:
            reason = str(error).partition("\n")[0]
            hint = "extract that part again"
            raise InputError(
                Code.NOT_OPENED, f"{self.folder}: {reason}", hint=hint
            ) from None

    def _blocks(self, tables: Sequence[str]) -> Iterator[tuple[int, MergedBlock]]:
        with ExitStack() as opened:
            readers = {
                name: opened.enter_context(
                    pa.ipc.open_file(str(self.place / f"{name}{ENDING}"))
                )
                for name in tables
            }
            rejects = opened.enter_context(open(self.place / REJECTS, "rb"))
            lines = opened.enter_context(open(self.place / BLOCKS, encoding="utf-8"))
            number = -1
            for number, text in enumerate(lines):
                line = BlockLine(**json.loads(text))
                rows = {
                    name: reader.get_batch(number)
                    for name, reader in readers.items()
                    if name in line.tables
                }
                block = UnresolvedBlock(self.names[line.input], line.whole, rows)
                yield (
                    line.input,
                    MergedBlock(block, list(_rejects(rejects, line.rejects))),
                )
            # A file that was cut off at the end of a block reads as if it were whole.
            if rejects.readline() or any(
                reader.num_record_batches != number + 1 for reader in readers.values()
            ):
                raise ValueError(f"{BLOCKS} does not have all blocks")


def blocks_in_order(
    parts: Sequence[Part], tables: Sequence[str]
) -> Iterator[MergedBlock]:
    """The blocks of all parts in the order of the input; each input is whole in one of them."""
    owner = {number: place for place, part in enumerate(parts) for number in part.names}
    readers = [part.blocks(tables) for part in parts]
    waiting = [next(reader, None) for reader in readers]
    for number in sorted(owner):
        place = owner[number]
        while (block := waiting[place]) is not None and block[0] == number:
            yield block[1]
            waiting[place] = next(readers[place], None)


def _rejects(file: BinaryIO, count: int) -> Iterator[Reject]:
    for _ in range(count):
        told = decode(file.readline())  # values keep their digits
        problems = tuple(
            Problem(
                problem["field"],
                problem["code"],
                problem["path"],
                problem["value"],
                problem["message"],
            )
            for problem in told["problems"]
        )
        yield Reject(
            told["file"],
            told["document"],
            told["path"],
            told["table"],
            problems,
            told.get("rows"),
        )
