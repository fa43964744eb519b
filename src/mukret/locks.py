"""A lock on an open file or folder.

It ends with the process that holds it, however that ends, and it is known to all processes of a
machine, those in other containers too.
"""

from __future__ import annotations


def hold(descriptor: int) -> bool | None:
    """Locks it until it is closed: True; False where another process holds it; None where the
    system or the file system has no such locks.
    """
    try:
        # Windows has no such module; there nobody is kept out.
        from fcntl import LOCK_EX, LOCK_NB, flock
    except ImportError:
        return None
    try:
        flock(descriptor, LOCK_EX | LOCK_NB)
    except BlockingIOError:
        return False
    # Some file systems of networks know no locks.
    except OSError:
        return None
    return True
