"""Rules compiled into a plan, and batches of documents through it."""
