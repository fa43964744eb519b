"""How results are drawn on a terminal; nothing here reads, computes or decides."""
