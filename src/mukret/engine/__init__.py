"""Blocks of documents through the plan: rows that are written, rejects, counts; in one thread or
several.
"""
