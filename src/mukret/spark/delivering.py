"""Tables, rejects and record of an extraction on a cluster → a folder of this machine, or one at an
address.

Each table is a folder of the files that executors write; `rejects.jsonl` and `run.json` are written
by the driver. A folder of this machine appears whole or not at all; at an address, where names
can't be exchanged, `run.json` comes last.
"""

from __future__ import annotations

import json
from concurrent.futures import ThreadPoolExecutor
from functools import partial

from pyspark.sql import functions as F

from mukret.codes import Code
from mukret.destinations.deliver import RejectLimit
from mukret.destinations.folder import REJECTS_FILE
from mukret.destinations.publish import RUN_FILE, Publication, not_written
from mukret.errors import Interrupted, OutputError
from mukret.spark.extracting import Extracted
from mukret.spark.folder import ClusterFolder
from mukret.spark.frame import EntryKind
from mukret.spark.jobs import cluster_errors, parallel
from mukret.spark.remote import is_remote
from mukret.values import JsonValue

TABLES_AT_ONCE = 4
# Files of a table are about as large, so that many pieces don't make many small ones.
BYTES_OF_A_FILE = 128 << 20
# So many bytes are worth a task of their own while others have nothing to do.
WORTH_A_TASK = 8 << 20


def deliver(
    extracted: Extracted,
    target: str,
    form: str = "parquet",
    limit: RejectLimit | None = None,
) -> dict[str, JsonValue]:
    """Writes everything in a format that the session can write, and returns the record.

    Raises OutputError, InputError and StoppedError.
    """
    if limit is not None:
        limit.check(extracted.tally, finished=True)
    return (
        _at_an_address(extracted, target, form)
        if is_remote(target)
        else _here(extracted, target, form)
    )


def _here(extracted: Extracted, target: str, form: str) -> dict[str, JsonValue]:
    publication = Publication(target)
    try:
        publication.begin()
        record = _written(extracted, form, ClusterFolder.here(publication.work))
        # A folder of this machine appears whole, as without Spark.
        publication.publish()
        return record
    except OSError as error:
        raise not_written(target, error) from None
    except KeyboardInterrupt:
        raise Interrupted("nothing was published") from None
    # Also after an error: half a folder must not be left.
    finally:
        publication.close()


def _at_an_address(
    extracted: Extracted, target: str, form: str
) -> dict[str, JsonValue]:
    try:
        folder = ClusterFolder.at(target)
        # What a run wrote before, and nothing else.
        folder.clear()
        return _written(extracted, form, folder)
    except OSError as error:
        reason = str(error).splitlines()[0]
        raise OutputError(
            Code.NOT_WRITTEN, f"{target}: {reason}", hint="check the address"
        ) from None
    except KeyboardInterrupt:
        raise Interrupted(f"{target} is not whole: it has no {RUN_FILE}") from None


def _written(
    extracted: Extracted, form: str, folder: ClusterFolder
) -> dict[str, JsonValue]:
    with cluster_errors():
        with ThreadPoolExecutor(TABLES_AT_ONCE) as pool:
            write = partial(_table_written, extracted, form, folder)
            files = [
                file
                for written in pool.map(write, _files_wanted(extracted).items())
                for file in written
            ]
        with folder.opened(REJECTS_FILE) as out:
            # Rejects go through the driver, row by row: one file, in the order of the input.
            if extracted.tally.findings:
                for row in extracted.reject_lines.toLocalIterator(
                    prefetchPartitions=True
                ):
                    out.write(bytes(row["line"]) + b"\n")
    record = extracted.record() | {
        "format": form,
        "files": [*files, REJECTS_FILE, RUN_FILE],
    }
    with folder.opened(RUN_FILE) as out:
        out.write((json.dumps(record, indent=2, ensure_ascii=False) + "\n").encode())
    return record


def _table_written(
    extracted: Extracted, form: str, folder: ClusterFolder, wanted: tuple[str, int]
) -> list[str]:
    """The files of a table, of which so many are wanted at most."""
    name, count = wanted
    extracted[name].coalesce(count).write.format(form).save(f"{folder.address}/{name}")
    files = folder.files_of(name)
    folder.check_rows(name, files, form, extracted.tally.tables[name].rows_written)
    return files


def _files_wanted(extracted: Extracted) -> dict[str, int]:
    """How many files each table should have at most, by the bytes of its rows as they are kept."""
    sizes: dict[str, int] = {}
    for frame in extracted.kept:
        rows = frame.where(F.col("kind") == int(EntryKind.ROWS)).groupBy("name")
        for row in rows.agg(F.sum(F.octet_length("payload")).alias("bytes")).collect():
            sizes[row["name"]] = row["bytes"]
    at_once = parallel(extracted.session)
    return {name: _files(sizes.get(name, 0), at_once) for name in extracted}


def _files(size: int, at_once: int) -> int:
    return max(1, -(-size // BYTES_OF_A_FILE), min(at_once, -(-size // WORTH_A_TASK)))
