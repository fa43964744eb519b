"""The input, cut into pieces: what one task reads."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial

from mukret.codes import Code
from mukret.documents import Origin, Source, find_sources
from mukret.documents.sources import STANDARD_INPUT, Stretch
from mukret.errors import UsageError
from mukret.spark.remote import is_remote, opened_remote, remote_files

Paths = str | os.PathLike[str] | Iterable[str | os.PathLike[str]]
# To open a file takes about as long as to read so many bytes.
FILE_COSTS = 1 << 20


@dataclass(frozen=True)
class Input:
    """A file, or a stretch of one, as executors are told of it: its number among all, how it is
    called, and where every machine finds it; `size` in bytes.
    """

    number: int
    path: str
    at: str
    named: bool
    origin: Origin | None
    size: int
    stretch: Stretch | None = None

    def source(self) -> Source:
        # Documents keep their number in the file, wherever they are read.
        before = 0 if self.stretch is None else self.stretch.documents
        remote = partial(opened_remote, self.at) if is_remote(self.at) else None
        return Source(
            self.path,
            self.named,
            self.origin,
            documents=before,
            at=self.at,
            remote=remote,
            stretch=self.stretch,
        )

    def cut(self, stretches: Iterable[Stretch]) -> Iterator[Input]:
        """Its stretches, as inputs of their own."""
        for stretch in stretches:
            yield replace(self, stretch=stretch, size=stretch.end - stretch.start)


# Inputs that one task reads one after the other.
Piece = Sequence[Input]


def find_inputs(paths: Paths, *, newest: bool = False) -> list[Input]:
    """All files that were named, in order: as on one machine, and by addresses
    (`s3://BUCKET/feed`).

    Raises InputError, and UsageError for what can't be read from elsewhere or more than once.
    """
    inputs: list[Input] = []
    listed = [paths] if isinstance(paths, str | os.PathLike) else list(paths)
    for path in [os.fspath(path) for path in listed]:
        if is_remote(path):
            for file in remote_files(path):
                named = file.address == path
                inputs.append(
                    Input(
                        len(inputs), file.address, file.address, named, None, file.size
                    )
                )
            continue
        for source in find_sources([path], newest=newest):
            # Executors have other pipes than this process.
            if source.path == STANDARD_INPUT or not source.on_disk():
                message = f"{source.name} can be read once, and here alone"
                raise UsageError(
                    Code.USAGE,
                    message,
                    hint="on Spark: name files or folders that all machines have",
                )
            at = os.path.abspath(source.path)
            inputs.append(
                Input(
                    len(inputs),
                    source.path,
                    at,
                    source.named,
                    source.origin,
                    os.path.getsize(at),
                )
            )
    if not inputs:
        # It raises the error for nothing at all.
        find_sources([])
    return inputs


def piece_bytes(inputs: Sequence[Input], parallel: int, most: int) -> int:
    """How large pieces should be, as Spark splits files: so that all cores have one, but none above
    `most`.
    """
    everything = sum(file.size + FILE_COSTS for file in inputs)
    return max(FILE_COSTS, min(most, everything // max(1, parallel)))


def in_pieces(inputs: Iterable[Input], size: int) -> Sequence[Piece]:
    """Pieces of at most about `size` bytes in the order of the input; an input that is larger is
    one of its own.
    """
    pieces: list[list[Input]] = []
    held = size
    for file in inputs:
        # Opening a file costs as much as reading some of it: a million small ones are not one
        # piece.
        cost = file.size + FILE_COSTS
        if held + cost > size + FILE_COSTS:
            pieces.append([])
            held = 0
        pieces[-1].append(file)
        held += cost
    return pieces
