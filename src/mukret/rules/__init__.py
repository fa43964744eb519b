"""The text of a rules file → a checked model, or a list of diagnostics with positions."""

from mukret.rules.load import load_rules, parse_rules
from mukret.rules.model import Field, Rules, Table

__all__ = ["Field", "Rules", "Table", "load_rules", "parse_rules"]
