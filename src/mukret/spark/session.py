"""A session of Spark for one command."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

from pyspark.errors import PySparkException
from pyspark.sql import SparkSession

from mukret.codes import Code
from mukret.errors import InputError

# What the tables need. All else is said in `spark-defaults.conf`, as ever.
SETTINGS = {
    "spark.sql.session.timeZone": "UTC",
    "spark.sql.parquet.outputTimestampType": "TIMESTAMP_MICROS",
}
NOTHING_MORE: Mapping[str, str] = {}
LOGGING = Path(__file__).with_name("log4j2.properties")
# On this machine alone nobody else is to be let in.
AT_HOME = {
    "spark.ui.enabled": "false",
    "spark.driver.host": "127.0.0.1",
    "spark.driver.bindAddress": "127.0.0.1",
}


@contextmanager
def spark_session(
    master: str | None,
    *,
    progress: bool = False,
    more: Mapping[str, str] = NOTHING_MORE,
) -> Iterator[SparkSession]:
    """A session that ends with the block; `master` as Spark has it (`local[4]`,
    `spark://HOST:7077`, `yarn`), None for what Spark's own settings say, or this machine; `more`
    are settings of Spark. Raises InputError where Spark does not start.
    """
    os.environ.setdefault("PYSPARK_PYTHON", sys.executable)
    builder = SparkSession.builder.appName("mukret")
    if master is not None:
        builder = builder.master(master)
    settings = {**SETTINGS, "spark.ui.showConsoleProgress": str(progress).lower()}
    if master is not None and master.startswith("local"):
        os.environ.setdefault("SPARK_LOCAL_IP", "127.0.0.1")
        settings |= AT_HOME
    if (
        not {"SPARK_CONF_DIR", "SPARK_HOME"} & os.environ.keys()
    ):  # nobody has said otherwise
        settings["spark.driver.extraJavaOptions"] = (
            f"-Dlog4j2.configurationFile={LOGGING.as_uri()}"
        )
        settings["spark.driver.memory"] = f"{_a_quarter_of_memory()}m"
    for name, value in {**settings, **more}.items():
        builder = builder.config(name, value)
    try:
        session = builder.getOrCreate()
    except PySparkException as error:
        hint = (
            "Java says above why, if it is there: it must be 17 or later; --master is as Spark "
            "has it, local[4]"
        )
        raise InputError(
            Code.SPARK, f"Spark does not start: {str(error).splitlines()[0]}", hint=hint
        ) from None
    try:
        yield session
    finally:
        session.stop()


def _a_quarter_of_memory() -> int:
    """In megabytes; Spark itself would take one gigabyte, whatever there is."""
    return max(
        1024, os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 4 >> 20
    )
