"""What workers are asked to do in tests. It imports little, so that a worker begins at once."""

import os
import signal


def square(number):
    return number * number


def die_once(number, marker):
    """Ends its worker the first time that it is called for a number."""
    if number == 3 and not os.path.exists(marker):
        with open(marker, "w"):
            os.kill(os.getpid(), signal.SIGKILL)
    return number * number


def always_die():
    os.kill(os.getpid(), signal.SIGKILL)
