"""SQL scalar expressions: text → syntax tree (a grammar) → typed tree → values."""

from mukret.errors import ExpressionError
from mukret.expressions.check import compile_expression, converted, names_in
from mukret.expressions.evaluate import evaluate
from mukret.expressions.tree import Expression

__all__ = ["Expression", "ExpressionError", "compile_expression", "converted", "evaluate", "names_in"]
