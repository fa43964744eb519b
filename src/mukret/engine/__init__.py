"""Batches of documents through the plan: rows that are written, rejects, counts; in one process or several."""
