"""Responses in the shapes that services send,
each with the rules that a person would write for it.
"""
