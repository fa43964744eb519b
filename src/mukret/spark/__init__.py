"""Extraction on a cluster: the same rules and the same results, the work done by the executors of
Apache Spark.

Needs the extra `mukret[spark]`, here and on the executors.
"""

try:
    import pyspark  # noqa: F401
except ImportError:
    raise ImportError(
        "mukret.spark needs Apache Spark: pip install 'mukret[spark]'"
    ) from None

from mukret.spark.extracting import Extracted, extract

__all__ = ["Extracted", "extract"]
