"""`gambrel demo` and `gambrel start`: the database and the application, until Ctrl+C."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from pathlib import Path
from types import FrameType

from gambrel.commands.database import (
    Instance,
    database,
    port_is_free,
    running_address,
)
from gambrel.commands.keys import sealing_key, secret_key
from gambrel.commands.opening import only_one, prepared
from gambrel.commands.places import (
    APPLICATION_OUTPUT,
    PAGES,
    STATE,
    CommandError,
    complain,
    say,
)
from gambrel.commands.processes import begin, end
from gambrel.commands.settings import (
    address_from,
    beside_bytes_from,
    caches_bytes_from,
    forecast_bytes_from,
    keep_from,
    log_bytes_from,
    proxies_from,
    sources_from,
)
from gambrel.store.database import (
    Sessions,
)
from gambrel.store.sign_in import new_link

DEFAULT_PORT = 8420
READY_WITHIN_S = 60
WATCHED_EVERY_S = 0.3
LIVES_S = 60.0
"""What has run for so long is started again at once when it ends."""
LONGEST_PAUSE_S = 8.0
PLANNER = "Planner"


def _choose_port(wanted: int | None) -> int:
    if wanted is not None:
        if port_is_free(wanted):
            return wanted
        raise CommandError(
            f"Port {wanted} is in use by another program. Choose another with --port, "
            "or leave --port out to have a free one chosen."
        )
    for port in range(DEFAULT_PORT, DEFAULT_PORT + 40):
        if port_is_free(port):
            if port != DEFAULT_PORT:
                say(f"Port {DEFAULT_PORT} is in use by another program; {port} is taken instead.")
            return port
    raise CommandError(f"No port from {DEFAULT_PORT} to {DEFAULT_PORT + 39} is free. Use --port.")


MEMORY_GIVEN_BACK = {
    "MALLOC_MMAP_THRESHOLD_": "65536",
    "MALLOC_TRIM_THRESHOLD_": "262144",
    "MALLOC_ARENA_MAX": "2",
}
"""Settings of the C library (mallopt(3)): it maps each array from 64 KiB on separately, and the
threads share two heaps.

So the memory of a forecast goes back to the system when the forecast is given up. Without them it
stays in the heaps of the threads, between what is still in use.
"""


class Application:
    """The process that serves the API and the pages."""

    def __init__(self, url: str, port: int) -> None:
        self.port = port
        self._environment = {
            **MEMORY_GIVEN_BACK,
            **os.environ,
            "GAMBREL_DATABASE_URL": url,
            "GAMBREL_SECRET_KEY": secret_key(),
            "GAMBREL_SEALING_KEY": sealing_key(),
        }
        self.process = self._launch()

    def _launch(self) -> subprocess.Popen[bytes]:
        # Not as a module: the processes that compute would load all of it once more.
        program = "from gambrel.commands.web_server import main; main()"
        command = [sys.executable, "-c", program, str(self.port)]
        return begin(command, self._environment, APPLICATION_OUTPUT)

    def restart(self) -> None:
        self.process = self._launch()

    def wait_until_ready(self) -> None:
        deadline = time.monotonic() + READY_WITHIN_S
        address = f"http://127.0.0.1:{self.port}/api/v1/session"
        while True:
            try:
                with urllib.request.urlopen(address, timeout=5):
                    return
            except (urllib.error.URLError, OSError) as error:
                if self.process.poll() is not None or time.monotonic() > deadline:
                    log = STATE / APPLICATION_OUTPUT
                    tail = log.read_text(errors="replace")[-2000:]
                    raise CommandError(
                        f"The application does not answer. The end of {log}:\n{tail}"
                    ) from error
                time.sleep(0.1)

    def stop(self) -> None:
        """End the application, its workers with it."""
        end(self.process, 10)


class _Stop(Exception):
    """Somebody asked the command to stop."""


def _stop_on_signals() -> None:
    def stop(_number: int, _frame: FrameType | None) -> None:
        # A second Ctrl+C must not cut the orderly end short.
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        raise _Stop

    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, stop)


def _watch(application: Application, instance: Instance | None) -> None:
    """Watch both processes and restart one that exits, after longer and longer pauses.

    Args:
        instance: the database server, where it is one of our own.
    """
    pause, lived_since = 0.0, time.monotonic()
    while True:
        time.sleep(WATCHED_EVERY_S)
        if time.monotonic() - lived_since > LIVES_S:
            pause = 0.0
        code = application.process.poll()
        database_ended = instance is not None and instance.has_ended()
        if code is None and not database_ended:
            continue
        try:
            if instance is not None and database_ended:
                complain("The database stopped. Starting it again.")
                instance.start_again()
                complain("The database is back.")
            if code is not None:
                complain(f"The application stopped (exit code {code}). Starting it again.")
                time.sleep(pause)
                application.restart()
                application.wait_until_ready()
        except CommandError as error:
            complain(f"{error}\nTrying again in {pause:.0f} s.")
            time.sleep(pause)
        pause = min(LONGEST_PAUSE_S, 2 * pause + 1.0)
        lived_since = time.monotonic()


def _note_running(text: str) -> None:
    Path(STATE / "running").write_text(text)


def _check_settings() -> None:
    """Refuse settings that cannot be before anything is started. Raises CommandError."""
    for read in (
        address_from, sources_from, keep_from, log_bytes_from, proxies_from, caches_bytes_from,
        forecast_bytes_from, beside_bytes_from,
    ):  # fmt: skip
        read(os.environ)


def serve(port: int | None, before: Callable[[Sessions, int], None]) -> None:
    """Run database and application until Ctrl+C.

    Args:
        before: may fill the database first; takes the application's port.
    """
    if not (PAGES / "index.html").exists():
        raise CommandError("The pages are not built. Run `./gambrel demo` from the project folder.")
    _check_settings()
    _stop_on_signals()
    application: Application | None = None
    with contextlib.suppress(_Stop), only_one():
        chosen = _choose_port(port)
        try:
            with database() as (url, instance):
                maker = prepared(url)
                before(maker, chosen)
                with maker.begin() as db:
                    token = new_link(db, PLANNER)
                application = Application(url, chosen)
                try:
                    application.wait_until_ready()
                    address = address_from(os.environ) or f"http://127.0.0.1:{chosen}"
                    _note_running(f"process {os.getpid()}, {address}")
                    say(f"\nGambrel runs at {address}\n")
                    say("Sign in once with this link (it works one time, for 12 hours):")
                    say(f"  {address}/sign-in#{token}\n")
                    say("Ctrl+C stops it and all that it started.")
                    _watch(application, instance)
                finally:
                    application.stop()
        finally:
            _note_running("")
    say("Stopped.")


def start(port: int | None) -> None:
    """Serve with the plans that are stored."""
    serve(port, lambda _maker, _port: None)


def link(name: str | None = None) -> None:
    """Print a new one-time sign-in link, of somebody who administers where they are new."""
    with database() as (url, _), prepared(url).begin() as db:
        token = new_link(db, name or PLANNER)
    address = address_from(os.environ) or running_address() or f"http://127.0.0.1:{DEFAULT_PORT}"
    say(f"{address}/sign-in#{token}")
