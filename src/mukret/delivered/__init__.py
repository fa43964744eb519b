"""What runs have delivered, read again: one contract over every kind of destination, and what
differs between two.
"""

from mukret.delivered.contract import Delivered, DeliveredTable
from mukret.delivered.opening import open_delivered

__all__ = ["Delivered", "DeliveredTable", "open_delivered"]
