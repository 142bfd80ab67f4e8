"""Processes beside the command: each writes to a log of its own and ends with the command."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
from collections.abc import Mapping, Sequence

from gambrel.commands.database import end_with_parent
from gambrel.commands.places import STATE
from gambrel.commands.settings import log_bytes_from
from gambrel.commands.state_files import rotated


def begin(
    command: Sequence[str], environment: Mapping[str, str], log: str
) -> subprocess.Popen[bytes]:
    """Start a process that writes to a log of this folder.

    Args:
        log: the name of the log; one that is too long is put aside first.
    """
    with rotated(STATE / log, log_bytes_from(os.environ)).open("ab") as output:
        return subprocess.Popen(
            command,
            env=environment,
            stdin=subprocess.DEVNULL,
            stdout=output,
            stderr=output,
            start_new_session=True,
            preexec_fn=end_with_parent,
        )


def end(process: subprocess.Popen[bytes], within_s: float) -> None:
    """End a process; by force, with all that it started, where it takes longer than that."""
    with contextlib.suppress(ProcessLookupError):
        process.terminate()
    try:
        process.wait(within_s)
    except subprocess.TimeoutExpired:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
        process.wait()
