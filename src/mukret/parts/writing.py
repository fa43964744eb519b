"""A share of the input → a part."""

from __future__ import annotations

import json
from collections.abc import Sequence
from contextlib import ExitStack

import pyarrow as pa

from mukret.destinations.deliver import run_record
from mukret.destinations.publish import RUN_FILE, Publication, not_written
from mukret.documents import Source
from mukret.engine.decided import DecidedRows
from mukret.engine.run import Output, Run
from mukret.engine.unresolved import told_tables, unresolved_rows, unresolved_schema
from mukret.errors import Interrupted
from mukret.parts.format import BLOCKS, ENDING, REJECTS, BlockLine
from mukret.parts.shares import Share, fingerprint
from mukret.parts.together import Told
from mukret.values import JsonValue


def extract_part(
    run: Run, share: Share, everything: Sequence[Source], target: str
) -> dict[str, JsonValue]:
    """Does a run over the sources of a share, which must not resolve, and publishes the part;
    returns its record.

    Raises OutputError, InputError and StoppedError; the target is as it was before then.
    """
    writer = _PartFolder(run, target)
    run.observer = writer.see
    numbers = {id(source): number for number, source in enumerate(everything)}
    try:
        writer.open(numbers)
        for output in run.batches():
            writer.write(output)
        record = run_record(run)
        for source, told in zip(run.sources, record["inputs"], strict=True):
            # Its number among all files: by that the parts are put in order again.
            told["number"] = numbers[id(source)]
        record["part"] = {
            "number": share.number,
            "of": share.of,
            "inputs": len(everything),
            "fingerprint": fingerprint(everything),
            **Told.by(run).beside_the_record(),
        }
        writer.publish(record)
        return record
    except OSError as error:
        raise not_written(target, error) from None
    except KeyboardInterrupt:
        raise Interrupted("nothing was published") from None
    finally:
        writer.close()


class _PartFolder:
    """A part on its way to the disk."""

    def __init__(self, run: Run, target: str) -> None:
        self.told = told_tables(run.rules)
        self.schemas = {
            name: unresolved_schema(table, run.schemas.get(name))
            for name, table in run.rules.tables.items()
        }
        self.publication = Publication(target)
        self.opened = ExitStack()
        self.rows: DecidedRows | None = None

    def open(self, numbers: dict[int, int]) -> None:
        """`numbers` has that of each source, by its identity."""
        self.numbers = numbers
        self.publication.begin()
        work = self.publication.work
        options = pa.ipc.IpcWriteOptions(compression="zstd")
        self.tables = {
            name: self.opened.enter_context(
                pa.ipc.new_file(str(work / f"{name}{ENDING}"), schema, options=options)
            )
            for name, schema in self.schemas.items()
        }
        self.blocks = self.opened.enter_context(open(work / BLOCKS, "wb"))  # noqa: SIM115
        self.rejects = self.opened.enter_context(open(work / REJECTS, "wb"))  # noqa: SIM115

    def see(self, rows: DecidedRows) -> None:
        """The rows of which the output comes next."""
        self.rows = rows

    def write(self, output: Output) -> None:
        assert self.rows is not None
        batch = self.rows.batch
        sources = batch.sources or [bad.source for bad in batch.bad]
        if not sources:  # nothing but what was passed over
            return
        tables = dict(unresolved_rows(self.rows, self.schemas, self.told))
        line = BlockLine(
            self.numbers[id(sources[0])],
            self.rows.found.array is None,
            len(output.rejects),
            [*tables],
        )
        self.blocks.write(json.dumps(line.as_json()).encode() + b"\n")
        self.rejects.writelines(reject.line() + b"\n" for reject in output.rejects)
        for name, writer in self.tables.items():
            writer.write_batch(tables[name] if name in tables else self.nothing(name))

    def nothing(self, name: str) -> pa.Table:
        return pa.RecordBatch.from_pylist([], schema=self.schemas[name])

    def publish(self, record: dict[str, JsonValue]) -> None:
        self.opened.close()
        record["files"] = [
            *(f"{name}{ENDING}" for name in self.tables),
            BLOCKS,
            REJECTS,
            RUN_FILE,
        ]
        # By this `compare` and `report` tell that it is no delivery.
        record["format"] = "part"
        text = json.dumps(record, indent=2, ensure_ascii=False) + "\n"
        (self.publication.work / RUN_FILE).write_text(text, encoding="utf-8")
        self.publication.publish()

    def close(self) -> None:
        self.opened.close()
        self.publication.close()
