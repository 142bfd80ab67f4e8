"""Places in arrays, for the innermost loops."""

from collections.abc import Callable
from typing import cast

import numpy as np

idx = cast("Callable[[int], int]", np.uint64)
"""A place in an array, 0 or more. For a signed one the compiled code asks at every access whether
it counts from the end of the array; without that a week is simulated in 6/7 of the time."""
