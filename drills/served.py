"""A running Gambrel for the drills: the command, its address, a person who is signed in."""

from __future__ import annotations

import contextlib
import os
import re
import signal
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import psutil
import requests

from gambrel.commands.database import free_port
from gambrel.commands.places import APPLICATION_LOG, PROJECT

STARTED_WITHIN_S = 300.0
ANSWER_WITHIN_S = 60.0


@dataclass
class Served:
    """A command that serves the samples, in a state folder of its own."""

    process: subprocess.Popen[str]
    address: str
    link: str
    state: Path
    said: list[str] = field(default_factory=list)

    @property
    def host(self) -> tuple[str, int]:
        host, _, port = self.address.removeprefix("http://").partition(":")
        return host, int(port)

    def _named(self, part: str) -> psutil.Process:
        """The process of which the command line has a part, once there is one."""
        latest = time.monotonic() + STARTED_WITHIN_S
        while time.monotonic() < latest:
            for process in psutil.Process(self.process.pid).children(recursive=True):
                with contextlib.suppress(psutil.Error):
                    if any(part in word for word in process.cmdline()[:3]):
                        return process
            time.sleep(0.1)
        raise AssertionError(f"no process {part} was started: " + "".join(self.said[-20:]))

    def application(self) -> psutil.Process:
        """The process that answers requests."""
        return self._named("web_server")

    def database(self) -> psutil.Process:
        """The process of the database."""
        return self._named("mariadbd")

    def errors(self) -> str:
        """The end of what the application's log says of errors."""
        log = (self.state / APPLICATION_LOG).read_text(errors="replace")
        return log[log.find(" ERROR ") :][-6000:] if " ERROR " in log else ""

    def memory_mib(self) -> float:
        """The memory of the process that answers requests."""
        return float(self.application().memory_info().rss) / 2**20


class Person:
    """Somebody who is signed in, with an HTTP session of their own."""

    patience_s = ANSWER_WITHIN_S

    def __init__(self, served: Served, link: str | None = None) -> None:
        self.address = served.address
        self.http = requests.Session()
        self.http.trust_env = False
        self.token = self.ask("GET", "/session").json()["csrf_token"]
        if link is not None:
            answer = self.ask("POST", "/session", {"token": link})
            answer.raise_for_status()
            self.token = answer.json()["csrf_token"]

    def another(self) -> Person:
        """The same person in another window."""
        made = object.__new__(Person)
        made.address, made.token = self.address, self.token
        made.http = requests.Session()
        made.http.trust_env = False
        made.http.cookies.update(self.http.cookies)
        return made

    def ask(
        self, method: str, path: str, body: Any = None, revision: int | None = None
    ) -> requests.Response:
        headers = {} if method == "GET" else {"X-CSRF-Token": self.token}
        if revision is not None:
            headers["If-Match"] = f'"{revision}"'
        return self.http.request(
            method, f"{self.address}/api/v1{path}", json=body, headers=headers,
            timeout=self.patience_s,
        )  # fmt: skip

    def plan(self, name: str = "larkmoor") -> int:
        """The id of a plan by its name."""
        return next(int(p["id"]) for p in self.ask("GET", "/plans").json() if p["name"] == name)


@contextlib.contextmanager
def served(
    command: str = "demo", *, environment: dict[str, str] | None = None, folder: str | None = None
) -> Iterator[Served]:
    """Run the command until the end of the block, with a database of its own."""
    with contextlib.ExitStack() as stack:
        state = folder or stack.enter_context(tempfile.TemporaryDirectory())
        process = subprocess.Popen(
            [sys.executable, "-m", "gambrel.cli", command, "--port", str(free_port())],
            cwd=PROJECT, text=True, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
            env={
                **os.environ, "GAMBREL_STATE": state, "PYTHONPATH": str(PROJECT / "src"),
                **(environment or {}),
            },
        )  # fmt: skip
        said: list[str] = []
        latest = time.monotonic() + STARTED_WITHIN_S
        link = None
        assert process.stdout is not None
        while link is None:
            line = process.stdout.readline()
            said.append(line)
            if not line or time.monotonic() > latest:
                raise RuntimeError("Gambrel did not start:\n" + "".join(said))
            link = re.search(r"(http://\S+)/sign-in#(\S+)", line)
        found = Served(process, link[1], link[2], Path(state), said)

        def listen() -> None:
            assert process.stdout is not None
            said.extend(process.stdout)

        threading.Thread(target=listen, daemon=True).start()
        try:
            yield found
        finally:
            process.send_signal(signal.SIGINT)
            try:
                process.wait(60)
            except subprocess.TimeoutExpired:
                process.kill()


def signed_in(served: Served) -> Person:
    """Use the link that the command printed."""
    return Person(served, served.link)


def percentile(values: list[float], share: float) -> float:
    """The value that a share of all do not exceed."""
    if len(values) == 1:
        return values[0]
    return statistics.quantiles(sorted(values), n=100, method="inclusive")[round(100 * share) - 1]
