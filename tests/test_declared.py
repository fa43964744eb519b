"""What is declared on the command line and what handlers take go together."""

from __future__ import annotations

import unittest
from dataclasses import MISSING, fields
from importlib import import_module

from mukret.cli.main import COMMANDS


class Declared(unittest.TestCase):
    def test_a_handler_takes_exactly_what_its_command_declares(self) -> None:
        for name in COMMANDS:
            with self.subTest(name):
                command = import_module(f"mukret.cli.commands.{name}").command
                request = import_module(f"mukret.cli.handlers.{name}").Request
                declared = {parameter.name for parameter in command.params}
                taken = {field.name for field in fields(request)}
                needed = {
                    field.name for field in fields(request) if field.default is MISSING
                }
                self.assertEqual((declared - taken, needed - declared), (set(), set()))
