"""SQL scalar expressions: text → syntax tree (a grammar) → typed tree → values."""

from mukret.errors import ExpressionError
from mukret.expressions.aggregating import aggregated
from mukret.expressions.check import (
    aggregates_in,
    compile_expression,
    converted,
    names_in,
)
from mukret.expressions.evaluate import evaluate
from mukret.expressions.tree import NOW, Aggregate, Expression

__all__ = [
    "NOW",
    "Aggregate",
    "Expression",
    "ExpressionError",
    "aggregated",
    "aggregates_in",
    "compile_expression",
    "converted",
    "evaluate",
    "names_in",
]
