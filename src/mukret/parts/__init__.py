"""One extraction shared by several machines: each writes a part, and the parts are merged into one
delivery.
"""
