"""The plain reading of the rules: the reference evaluator, what becomes of rows, counts, examples.

No Arrow.
"""
