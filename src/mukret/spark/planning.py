"""Files → pieces for tasks: long ones are read through before, to know where they can be cut."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from pyspark.sql import SparkSession

from mukret.spark.jobs import facts_of, for_each_piece, in_batches, parallel
from mukret.spark.pieces import Input, Piece, in_pieces, piece_bytes
from mukret.spark.work import FACTS, LookedThrough, looked_through
from mukret.values import JsonValue

# A file is cut if it is so many times as large as a piece should be.
LONG = 1.5


@dataclass(frozen=True)
class Planned:
    """The inputs in their order, what was learnt of the long ones by their number, and the pieces
    of all of them.
    """

    inputs: Sequence[Input]
    pieces: Sequence[Piece]
    piece_bytes: int
    looked: Mapping[int, LookedThrough] = field(default_factory=dict)

    @property
    def in_one_go(self) -> list[Input]:
        """Long files that can't be split, so that one task reads each."""
        return [
            file
            for file in self.inputs
            if file.number in self.looked and self.looked[file.number].stretches is None
        ]

    def read(
        self, told: Iterable[Mapping[int, Mapping[str, JsonValue]]]
    ) -> list[dict[str, JsonValue]]:
        """What was read of each file, its stretches together, out of what pieces tell of their
        inputs.
        """
        files: dict[int, dict[str, JsonValue]] = {}
        for inputs in told:
            for number, file in inputs.items():
                known = self.looked.get(number)
                if number in files:
                    files[number]["documents"] += file["documents"]
                # The hash of a file that was read in stretches is that of the look before.
                elif known is not None and known.stretches is not None:
                    files[number] = {
                        **file,
                        "sha256": known.sha256,
                        "bytes": known.size,
                    }
                else:
                    files[number] = dict(file)
        return [files[file.number] for file in self.inputs]


def planned(
    session: SparkSession, inputs: Sequence[Input], size: int | None = None
) -> Planned:
    """The pieces of some files, of about `size` bytes.

    If that is not said they are as large as Spark's own parts of files: enough for all cores, and
    no larger than `spark.sql.files.maxPartitionBytes`. Raises InputError.
    """
    if size is None:
        most = bytes_of(str(session.conf.get("spark.sql.files.maxPartitionBytes")))
        size = piece_bytes(inputs, parallel(session), most)
    # Only those are looked through for places at which they can be cut.
    long = [file for file in inputs if file.size > LONG * size]
    looked: dict[int, LookedThrough] = {}
    if long:
        task = in_batches(looked_through, size)
        facts = facts_of(
            for_each_piece(session, [[file] for file in long], task, FACTS)
        )
        looked = {file.number: look for file, look in zip(long, facts, strict=True)}
    return Planned(inputs, in_pieces(_cut(inputs, looked), size), size, looked)


def _cut(
    inputs: Iterable[Input], looked: Mapping[int, LookedThrough]
) -> Iterator[Input]:
    for file in inputs:
        known = looked.get(file.number)
        if known is None or known.stretches is None:
            yield file
        else:
            yield from file.cut(known.stretches)


def bytes_of(setting: str) -> int:
    """A size as Spark's settings have it: `128m`, `134217728b`."""
    text = setting.strip().lower()
    digits = text.rstrip("bkmgt")
    unit = text[len(digits) :][:1] or "b"
    return int(digits) << {"b": 0, "k": 10, "m": 20, "g": 30, "t": 40}[unit]
