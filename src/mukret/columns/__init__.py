"""Types and expressions over whole Arrow columns: what `types` and `expressions` mean,
by kernels.
"""
