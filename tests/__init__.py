"""The tests. Property tests draw the same examples every time, so that a run tells of the change and not of luck."""

from hypothesis import settings

settings.register_profile("steady", derandomize=True, deadline=None)
settings.load_profile("steady")
