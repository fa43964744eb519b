"""Rules compiled once: how documents are decoded and cut, and generated code that finds rows and values."""
