"""Rules compiled once: what a scan looks for, where documents can be cut, and the plain way for
what is left.
"""
