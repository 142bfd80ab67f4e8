"""`gambrel demo` and `gambrel start`: the database and the application, until Ctrl+C."""

from __future__ import annotations

import contextlib
import fcntl
import os
import secrets
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterator
from pathlib import Path
from types import FrameType
from typing import Any

from sqlalchemy.exc import OperationalError

from gambrel.commands import own_data
from gambrel.commands.database import (
    Instance,
    database,
    end_with_parent,
    free_port,
    port_is_free,
    running_address,
)
from gambrel.commands.places import (
    APPLICATION_OUTPUT,
    PAGES,
    STATE,
    CommandError,
    complain,
    say,
)
from gambrel.commands.sample_runs import connect_mail, load_history, stand_in_token
from gambrel.commands.settings import (
    address_from,
    keep_from,
    log_bytes_from,
    proxies_from,
    sources_from,
)
from gambrel.commands.state_files import kept_text, rotated
from gambrel.core.plan.reading import read_plan
from gambrel.demo import SCENARIOS
from gambrel.demo.estate import sample_sources
from gambrel.store import sources
from gambrel.store.database import (
    Sessions,
    connect,
    knows_revision,
    migrate,
    newest_revision,
    revision_of,
    sessions,
)
from gambrel.store.dumps import is_empty
from gambrel.store.plans import discard_drafts, plan_heads, store_plan
from gambrel.store.sealing import Sealer
from gambrel.store.sign_in import new_link

DEFAULT_PORT = 8420
READY_WITHIN_S = 60
WATCHED_EVERY_S = 0.3
LIVES_S = 60.0
"""What has run for so long is started again at once when it ends."""
LONGEST_PAUSE_S = 8.0
PLANNER = "Planner"


def secret_key() -> str:
    """The key that signs session cookies: GAMBREL_SECRET_KEY, or one made once for this folder."""
    return os.environ.get("GAMBREL_SECRET_KEY") or kept_text(
        STATE / "secret-key", lambda: secrets.token_urlsafe(48), least=32
    )


def sealing_key() -> str:
    """The key that seals the secrets of sources: GAMBREL_SEALING_KEY, or one made once."""
    return os.environ.get("GAMBREL_SEALING_KEY") or kept_text(
        STATE / "sealing-key",
        Sealer.new_key,
        least=32,
        lost="the secrets of all sources then have to be entered again",
    )


def keys() -> dict[str, str]:
    """What a dump needs beside the database, so that another machine can go on with it."""
    return {"secret-key": secret_key(), "sealing-key": sealing_key()}


@contextlib.contextmanager
def only_one() -> Iterator[None]:
    """Hold the lock of this folder; two servers on one database folder would harm each other."""
    STATE.mkdir(parents=True, exist_ok=True)
    with (STATE / "running").open("a+") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            lock.seek(0)
            raise CommandError(
                f"Gambrel already runs from this folder: {lock.read().strip() or 'just starting'}. "
                "Stop it there with Ctrl+C, or use the one that runs; "
                "`./gambrel link` prints a new sign-in link for it."
            ) from None
        yield


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


def prepared(url: str) -> Sessions:
    """The database with its newest schema; of an older one that has plans a dump is made before.

    Raises:
        CommandError: where it cannot be used, or a newer program has written it.
    """
    engine = connect(url)
    try:
        with engine.connect() as connection:
            revision = revision_of(connection)
            empty = is_empty(connection)
        if revision is not None and not knows_revision(revision):
            raise CommandError(
                f"The database was written by a newer Gambrel (its schema is {revision}, this "
                f"program knows up to {newest_revision()}). Start that one, or bring back a dump "
                "that was made before with `./gambrel undump`. Nothing was changed."
            )
        if revision not in (None, newest_revision()) and not empty:
            own_data.dump_before(engine, f"upgrade-from-{revision}", keys())
        migrate(engine)
    except OperationalError as error:
        raise CommandError(
            f"The database cannot be used: {error.orig}. Check GAMBREL_DATABASE_URL and the "
            "rights of its user."
        ) from error
    return sessions(engine)


def _load_samples(maker: Sessions, *, fresh: bool) -> None:
    with maker() as db:
        known = {head.name for head in plan_heads(db)}
    for name in ("tiny", "larkmoor"):
        if fresh or name not in known:
            say(f"Loading the sample plan {name}.")
            with maker.begin() as db:
                plan = read_plan(SCENARIOS[name]())
                head = store_plan(db, name, plan, actor="gambrel demo", note="sample data")
                discard_drafts(db, head.id, actor="gambrel demo")


MEMORY_GIVEN_BACK = {
    "MALLOC_MMAP_THRESHOLD_": "262144",
    "MALLOC_TRIM_THRESHOLD_": "262144",
    "MALLOC_ARENA_MAX": "2",
}
"""Settings of the C library (mallopt(3)): it maps each array from 256 KiB on separately, and the
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
        with rotated(STATE / APPLICATION_OUTPUT, log_bytes_from(os.environ)).open("ab") as log:
            return subprocess.Popen(
                # Not as a module: the processes that compute would load all of it once more.
                [
                    sys.executable, "-c",
                    "from gambrel.commands.web_server import main; main()", str(self.port),
                ],
                env=self._environment,
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                start_new_session=True,
                preexec_fn=end_with_parent,
            )  # fmt: skip

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
        with contextlib.suppress(ProcessLookupError):
            self.process.terminate()
        try:
            self.process.wait(10)
        except subprocess.TimeoutExpired:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(self.process.pid, signal.SIGKILL)
            self.process.wait()


class StandIns:
    """The process that plays the sources of the sample estate on a port of loopback."""

    def __init__(self, application_port: int, token: str) -> None:
        self.port, self.mail_port = free_port(), free_port()
        environment = {
            **os.environ,
            "GAMBREL_STAND_IN_TOKEN": token,
            "GAMBREL_STAND_IN_FOR": f"http://127.0.0.1:{application_port}",
        }
        with rotated(STATE / "stand-ins.log", log_bytes_from(os.environ)).open("ab") as log:
            self.process = subprocess.Popen(
                [
                    sys.executable, "-m", "gambrel.standins",
                    "--port", str(self.port), "--mail-port", str(self.mail_port),
                ],
                env=environment,
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                start_new_session=True,
                preexec_fn=end_with_parent,
            )  # fmt: skip

    def stop(self) -> None:
        self.process.terminate()
        try:
            self.process.wait(5)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()


def _connect_samples(maker: Sessions, port: int) -> None:
    """Have the sample plan know its sources, at the addresses that they have this time."""
    samples = {sample.name: sample for sample in sample_sources(SCENARIOS["larkmoor"]())}
    sealer = Sealer(sealing_key())
    with maker.begin() as db:
        plan = next(head for head in plan_heads(db) if head.name == "larkmoor")
        known = {source.name: source for source in sources.sources(db, plan.id)}
        for sample in samples.values():
            fields: dict[str, Any] = {
                "interval_min": 60,
                "address": f"http://127.0.0.1:{port}/{sample.name}",
            }
            if sample.name in known:
                source = known[sample.name]
                sources.change_source(db, source.id, source.revision, fields, actor="gambrel demo")
                continue
            fields |= {"name": sample.name, "kind": sample.kind, "make": sample.make}
            accounts = [(a.scope, a.user, a.secret) for a in sample.accounts]
            sources.add_source(
                db, plan.id, {**fields, "site": sample.site}, accounts, sealer,
                actor="gambrel demo",
            )  # fmt: skip


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
    for read in (address_from, sources_from, keep_from, log_bytes_from, proxies_from):
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


def demo(port: int | None, *, fresh: bool) -> None:
    """Serve with the sample plans, and with simulated sources that name the sample estate."""
    played: list[StandIns] = []

    def before(maker: Sessions, application_port: int) -> None:
        _load_samples(maker, fresh=fresh)
        with maker() as db:
            head = next(head for head in plan_heads(db) if head.name == "larkmoor")
        load_history(maker, head, SCENARIOS["larkmoor"]())
        played.append(StandIns(application_port, stand_in_token(maker, head)))
        _connect_samples(maker, played[0].port)
        connect_mail(maker, head, played[0].mail_port)
        say(f"Mail of the demo is shown at http://127.0.0.1:{played[0].port}/mail")

    try:
        serve(port, before)
    finally:
        for stand_ins in played:
            stand_ins.stop()


def start(port: int | None) -> None:
    """Serve with the plans that are stored."""
    serve(port, lambda _maker, _port: None)


def link(name: str | None = None) -> None:
    """Print a new one-time sign-in link, of somebody who administers where they are new."""
    with database() as (url, _), prepared(url).begin() as db:
        token = new_link(db, name or PLANNER)
    address = address_from(os.environ) or running_address() or f"http://127.0.0.1:{DEFAULT_PORT}"
    say(f"{address}/sign-in#{token}")
