"""The version, where everything can read it without importing the rest."""

__version__ = "0.1.0"
