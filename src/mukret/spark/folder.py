"""A folder into which executors write tables, and the driver what stands beside them."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from mukret.codes import Code
from mukret.destinations.publish import RUN_FILE
from mukret.errors import OutputError
from mukret.spark.remote import file_system

# Formats of which the rows in files can be counted without reading them.
_COUNTED = ("parquet", "orc")


@dataclass(frozen=True)
class ClusterFolder:
    """`address` is what Spark is told, `path` the same in a file system of Arrow."""

    address: str
    system: Any
    path: str

    @classmethod
    def here(cls, place: Path) -> ClusterFolder:
        """A folder of this machine, which all others must have, too."""
        from pyarrow import fs

        return cls(f"file:{place}", fs.LocalFileSystem(), str(place))

    @classmethod
    def at(cls, address: str) -> ClusterFolder:
        """A folder by its address. Raises OSError, InputError."""
        system, path = file_system(address.rstrip("/"))
        return cls(address.rstrip("/"), system, path)

    def clear(self) -> None:
        """Takes away what an earlier run wrote, its record first.

        Raises OutputError for what no run wrote.
        """
        from pyarrow import fs

        names = {
            info.base_name: info
            for info in self.system.get_file_info(
                fs.FileSelector(self.path, allow_not_found=True)
            )
        }
        ours = self._written_before() if RUN_FILE in names else set()
        # Nothing is taken away that the record of an earlier run does not name.
        foreign = sorted(names.keys() - ours)
        if foreign:
            message = f"{self.address} holds what Mukret did not write: {', '.join(foreign[:3])}"
            raise OutputError(Code.NOT_EMPTY, message, hint="name a folder of its own")
        for name in sorted(names, key=lambda name: name != RUN_FILE):
            if names[name].type == fs.FileType.Directory:
                self.system.delete_dir(f"{self.path}/{name}")
            else:
                self.system.delete_file(f"{self.path}/{name}")

    def _written_before(self) -> set[str]:
        try:
            with self.system.open_input_file(f"{self.path}/{RUN_FILE}") as file:
                record = json.loads(file.read())
            return (
                {str(name).partition("/")[0] for name in record["files"]}
                if "mukret" in record
                else set()
            )
        # No record of ours: nothing there is touched.
        except (ValueError, KeyError, TypeError):
            return set()

    def opened(self, name: str) -> Any:
        """A file to be written."""
        return self.system.open_output_stream(f"{self.path}/{name}")

    def files_of(self, table: str) -> list[str]:
        """The files that Spark wrote for a table; what it put beside them is taken away."""
        from pyarrow import fs

        names = []
        for info in self.system.get_file_info(
            fs.FileSelector(f"{self.path}/{table}", allow_not_found=True)
        ):
            # Marks and checksums of Hadoop, which other readers take for data.
            if info.base_name.startswith(("_", ".")):
                self.system.delete_file(info.path)
            else:
                names.append(f"{table}/{info.base_name}")
        return sorted(names)

    def check_rows(self, table: str, files: list[str], form: str, wanted: int) -> None:
        """Raises OutputError where files don't hold as many rows as were counted: executors on
        other machines have written into folders of their own.
        """
        from pyarrow import dataset

        if form not in _COUNTED:
            return
        rows = 0
        if files:
            paths = [f"{self.path}/{file}" for file in files]
            # Counted from the footers of the files: quick, and sees what is really there.
            rows = dataset.dataset(
                paths, filesystem=self.system, format=form
            ).count_rows()
        if rows != wanted:
            message = (
                f"{self.address}: the files of {table} that can be seen here hold {rows:,} "
                f"rows of {wanted:,}"
            )
            hint = "name a folder that all machines have, or an address: --to s3a://BUCKET/tables"
            raise OutputError(Code.NOT_WRITTEN, message, hint=hint)
