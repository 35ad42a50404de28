"""The tests. What they hold does not depend on how fast a machine is, so no example has a deadline."""

from hypothesis import settings

settings.register_profile("patient", deadline=None)
settings.load_profile("patient")
