"""Blocks worked on by several processes, their results in the order of the input, as if one had done it all.

The first process reads, keeps the keys that were seen, and gathers what comes back; the workers, forked from it, decode
blocks and take them through the plan. Keys are asked for block by block in the order of the input, so that of two rows
with one key it is the same one that counts as in one process.
"""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from multiprocessing import get_context
from multiprocessing.connection import Connection, wait
from typing import TYPE_CHECKING, Any

from mukret.documents import BadDocument, Source
from mukret.documents.blocks import Block, Piece
from mukret.engine.batch_tables import BatchTables, Fates
from mukret.engine.passes import Known
from mukret.errors import InputError
from mukret.rules.model import Rules
from mukret.rules.schedule import lookup_passes
from mukret.semantics.fates import SeenKeys, keys_of, settling_passes

if TYPE_CHECKING:
    from mukret.engine.run import Encode, Links, Output, Run

PAYS_FROM = 20_000_000
"""Bytes of input from which on starting processes costs less than it saves."""
AHEAD = 3
"""Blocks for each worker that may be done before one that goes before them."""

# What a worker says: a kind of message, and what belongs to it.
KEYS, DECIDED, DONE, FAILED, LEFT = range(5)


def why_alone(rules: Rules) -> str | None:
    """Why one process must do it, if it must."""
    if settling_passes(rules.parents_first()):
        return "duplicates: last wants the whole input before"
    if lookup_passes(rules):
        return "a lookup across the run wants the whole input before"
    if any(table.key and table.rows.recurse is not None for table in rules.tables.values()):
        return "a table that recurses has a key"
    if not hasattr(os, "fork") or sys.platform == "darwin":
        return "processes can't be forked here"
    return None


def sensible(sources: Sequence[Source]) -> int:
    """How many workers an input is worth: as many as there are cores, if it is large enough; else 1."""
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    files = [source.path for source in sources if os.path.isfile(source.path)]
    return cores if sum(map(os.path.getsize, files)) >= PAYS_FROM else 1


class Remote(SeenKeys):
    """The keys of one table, kept by the first process."""

    def __init__(self, table: str, connection: Connection) -> None:
        super().__init__()
        self.table = table
        self.connection = connection

    def fates(self, hashes: Sequence[bytes], rows: Sequence[int]) -> Sequence[int]:
        if not hashes:
            return ()
        self.connection.send((KEYS, (self.table, b"".join(hashes))))
        found: bytes = self.connection.recv_bytes()
        return found


@dataclass
class _Worker:
    connection: Connection
    process: Any
    task: int | None = None
    """The block that it works on."""


@dataclass
class Workers:
    """`count` processes that do the work of a run; `encode` is applied to each record batch over there."""

    run: Run
    count: int
    encode: Encode | None
    links: Links
    workers: list[_Worker] = field(default_factory=list)
    idle: list[_Worker] = field(default_factory=list)
    results: dict[int, Output | BaseException] = field(default_factory=dict)
    waiting_for_keys: dict[int, tuple[_Worker, tuple[str, bytes]]] = field(default_factory=dict)
    decided: set[int] = field(default_factory=set)
    turn: int = 0
    """The block that may ask for keys."""
    fates: Fates | None = None
    """Those of the rows around the arrays of a document that is read in parts; None while they are not known."""

    def outputs(self) -> Iterator[Output]:
        """In the order of the input. Raises what a worker raised, in its turn."""
        self.seen = keys_of(self.run.rules.tables.values(), {})
        try:
            self.workers = self.started()
            yield from self.in_order()
            self.take_leave()
        finally:
            for worker in self.workers:
                worker.process.terminate()
                worker.process.join()
                worker.connection.close()

    def started(self) -> list[_Worker]:
        context = get_context("fork")
        pipes = [context.Pipe() for _ in range(self.count)]
        workers = []
        # a signal that comes while they begin is for this process alone, and waits
        signals = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT, signal.SIGTERM})
        try:
            for here, there in pipes:
                others = [end for pipe in pipes for end in pipe if end is not there]
                process = context.Process(
                    target=_work, args=(self.run, self.encode, self.links, there, others), daemon=True
                )
                process.start()
                workers.append(_Worker(here, process))
        finally:
            self.workers = workers
            signal.pthread_sigmask(signal.SIG_SETMASK, signals)
        for _, there in pipes:
            there.close()
        self.idle = list(workers)
        return workers

    def in_order(self) -> Iterator[Output]:
        reading = _Reading(self.run.blocks(self.links))
        handed_out = next_out = 0
        while True:
            while self.idle and reading.block is not None and handed_out - next_out < AHEAD * self.count:
                if _in_part(reading.block) and self.fates is None:
                    break
                self.hand_out(handed_out, reading.block)
                handed_out += 1
                reading.go_on()
            while next_out in self.results:
                result = self.results.pop(next_out)
                if isinstance(result, BaseException):
                    raise result
                yield result
                next_out += 1
            busy = [worker for worker in self.workers if worker.task is not None]
            if busy:
                self.listen(busy)
            elif reading.block is None:
                break
        if reading.error is not None:
            raise reading.error

    def hand_out(self, number: int, block: Block) -> None:
        worker = self.idle.pop()
        worker.task = number
        if _begins_parts(block):
            self.fates = None
        fates = self.fates if _in_part(block) else None
        worker.connection.send((number, fates, _packed(block, self.run.sources)))

    def listen(self, busy: Sequence[_Worker]) -> None:
        by_connection = {worker.connection: worker for worker in busy}
        for connection in wait(list(by_connection)):
            assert isinstance(connection, Connection)
            try:
                kind, content = connection.recv()
            except (EOFError, OSError):
                raise InputError(
                    "worker-lost",
                    "a worker process was ended from outside",
                    hint="perhaps memory ran out: --workers 1 needs least of it",
                ) from None
            self.take(by_connection[connection], kind, content)
        self.serve_keys()

    def take(self, worker: _Worker, kind: int, content: Any) -> None:
        assert worker.task is not None
        if kind == KEYS:
            self.waiting_for_keys[worker.task] = (worker, content)
        elif kind == DECIDED:
            self.decided.add(worker.task)
        else:
            self.results[worker.task] = content
            if kind == DONE and content.fates_around is not None:
                self.fates = content.fates_around
            self.decided.add(worker.task)
            worker.task = None
            self.idle.append(worker)

    def serve_keys(self) -> None:
        while True:
            if self.turn in self.waiting_for_keys:
                worker, (table, joined) = self.waiting_for_keys.pop(self.turn)
                hashes = [joined[at : at + 16] for at in range(0, len(joined), 16)]
                worker.connection.send_bytes(bytes(self.seen[table].fates(hashes, range(len(hashes)))))
                return
            if self.turn not in self.decided:
                return
            self.decided.discard(self.turn)
            self.turn += 1

    def take_leave(self) -> None:
        """Asks each worker what it has learnt of the rules in all."""
        for worker in self.workers:
            worker.connection.send(None)
        self.run.coverage.merge([worker.connection.recv()[1] for worker in self.workers])


class _Reading:
    """The blocks of a run, one ahead of those that are handed out; an error waits for what was read before it."""

    def __init__(self, blocks: Iterator[Block]) -> None:
        self.blocks = blocks
        self.block: Block | None = None
        self.error: Exception | None = None
        self.go_on()

    def go_on(self) -> None:
        self.block = None
        try:
            self.block = next(self.blocks, None)
        except InputError as error:
            self.error = error


def _begins_parts(block: Block) -> bool:
    return any(piece.part.around for piece in block.pieces)


def _in_part(block: Block) -> bool:
    return any(piece.part.array is not None for piece in block.pieces)


def _packed(block: Block, sources: Sequence[Source]) -> Any:
    """A block as it goes through a pipe: sources by their number."""
    numbers = {id(source): number for number, source in enumerate(sources)}
    pieces = [
        (numbers[id(p.source)], p.raw, p.number, p.before, p.separator, p.lines, p.offset, p.origin, p.inside, p.part)
        for p in block.pieces
    ]
    bad = [(numbers[id(found.source)], found.number, found.finding, found.code) for found in block.bad]
    return pieces, bad, block.size


def _unpacked(packed: Any, sources: Sequence[Source]) -> Block:
    pieces, bad, size = packed
    return Block(
        [Piece(sources[source], *others) for source, *others in pieces],
        [BadDocument(sources[source], *others) for source, *others in bad],
        size,
    )


def _work(run: Run, encode: Encode | None, links: Links, connection: Connection, others: Sequence[Connection]) -> None:
    """A worker: takes blocks until there are no more, or the first process is gone."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the first process sees to it
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    signal.pthread_sigmask(signal.SIG_UNBLOCK, {signal.SIGINT, signal.SIGTERM})
    for end in others:
        end.close()
    seen = {name: Remote(name, connection) for name in run.rules.tables}
    decoding = run.decoding()
    try:
        while (task := connection.recv()) is not None:
            run.coverage.block, around, packed = task
            block = _unpacked(packed, run.sources)

            def tables(block: Block = block, around: Fates | None = around) -> BatchTables:
                return run.decide(decoding.batch(block), seen, Known(), around or {})

            connection.send(_result(run, encode, links, connection, tables))
        connection.send((LEFT, run.coverage.seen()))
    except (EOFError, BrokenPipeError):
        pass


def _result(
    run: Run, encode: Encode | None, links: Links, connection: Connection, decided: Callable[[], BatchTables]
) -> tuple[int, Any]:
    """What is sent back of a block. `decided` asks for keys; after that no more are asked for."""
    try:
        tables = decided()
        connection.send((DECIDED, None))
        output = run.output(tables, links)
        if encode is not None:
            output.tables = {name: encode(name, batch) for name, batch in output.tables.items()}
            output.encoded = True
        if tables.batch.part.around:
            output.fates_around = tables.fates_around
    except (EOFError, BrokenPipeError):
        raise
    except Exception as error:
        error.__traceback__ = None
        return FAILED, error
    return DONE, output
