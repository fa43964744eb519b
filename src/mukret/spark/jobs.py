"""Jobs on a cluster: what is sent out, and what comes back."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import pyarrow as pa
from py4j.protocol import Py4JError
from pyspark import StorageLevel
from pyspark.errors import PySparkException
from pyspark.sql import DataFrame, SparkSession
from pyspark.sql import functions as F

from mukret.codes import Code
from mukret.errors import InputError, MukretError
from mukret.spark.frame import packed_fact, unpacked_fact
from mukret.spark.pieces import Piece
from mukret.spark.work import FACTS

# What is needed again; executors that are lost take it with them, and Spark makes it anew.
KEPT = StorageLevel.MEMORY_AND_DISK

# Record batches in, record batches out.
Task = Callable[[Iterable[pa.RecordBatch]], Iterator[pa.RecordBatch]]


def in_batches(
    function: Callable[..., Iterator[pa.RecordBatch]], *arguments: Any
) -> Task:
    """A function as Spark wants it, which looks at its signature; batches come last."""
    return lambda batches: function(*arguments, batches)


@contextmanager
def cluster_errors() -> Iterator[None]:
    """What Spark could not do, as an error of ours."""
    try:
        yield
    except (PySparkException, Py4JError) as error:
        lines = [line.strip() for line in str(error).splitlines() if line.strip()]
        # Traces of Java and Python are pages long; their last line with a name of an error says
        # most.
        told = next(
            (
                line
                for line in reversed(lines)
                if "Error" in line and not line.startswith("at ")
            ),
            "",
        )
        message = f"Spark gave up: {told or (lines or ['no reason given'])[0]}"
        hint = (
            "Spark's own log says more; all machines need Mukret and the files, in the same "
            "places"
        )
        raise InputError(Code.SPARK, message, hint=hint) from error


def for_each_piece(
    session: SparkSession, pieces: Sequence[Piece], task: Task, schema: str
) -> DataFrame:
    """What a task gives for each piece, which is a partition of its own,
    in the order of the input.
    """
    # A range of n in n partitions puts one number into each; a frame made of rows would not promise
    # it.
    numbers = session.range(0, len(pieces), 1, max(1, len(pieces)))
    given = session.createDataFrame(
        [
            (number, bytearray(packed_fact(piece)))
            for number, piece in enumerate(pieces)
        ],
        FACTS,
    )
    spread = numbers.join(F.broadcast(given), numbers["id"] == given["piece"]).select(
        "piece", "payload"
    )
    return spread.mapInArrow(task, schema)


def facts_of(frame: DataFrame) -> list[Any]:
    """What tasks tell, piece by piece. Raises the first error that one of them ended with."""
    with cluster_errors():
        rows = sorted((row["piece"], bytes(row["payload"])) for row in frame.collect())
    facts = [unpacked_fact(payload) for _, payload in rows]
    for fact in facts:
        if isinstance(fact, MukretError):
            raise fact
    return facts


def parallel(session: SparkSession) -> int:
    """How many tasks run at once."""
    try:
        return int(session.sparkContext.defaultParallelism)
    except PySparkException:  # a session that is connected from elsewhere does not say
        return int(str(session.conf.get("spark.sql.shuffle.partitions")))
