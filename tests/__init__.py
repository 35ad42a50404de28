"""The tests. What they hold does not depend on how fast a machine is, so no example has a deadline.

The suite tries the same examples in every run: red is never a matter of luck. `bench/properties.py` looks
for others.
"""

from hypothesis import settings

from tests.support.chance import SHIFT

settings.register_profile("steady", deadline=None, database=None, derandomize=not SHIFT, print_blob=True)
settings.load_profile("steady")
