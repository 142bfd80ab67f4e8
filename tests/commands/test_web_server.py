"""One loop reads and writes for all clients, so that slow ones delay nobody."""

import contextlib
import socket
import threading
import time
import urllib.request

import pytest

from gambrel.commands import web_server
from gambrel.commands.database import free_port

HALF_A_HEADER = b"GET / HTTP/1.1\r\nHost: here\r\nX-Slow: "
HALF_A_BODY = b"POST / HTTP/1.1\r\nHost: here\r\nContent-Length: 500\r\n\r\nabc"


class Serving:
    """A server of a small application, in a thread."""

    def __init__(self, application):
        self.port = free_port()
        self.server = web_server.server(application, self.port)
        self.thread = threading.Thread(target=self.server.run, daemon=True)
        self.thread.start()

    def connect(self, *sent):
        client = socket.create_connection(("127.0.0.1", self.port), 20)
        for part in sent:
            client.sendall(part)
        return client

    def get(self):
        with urllib.request.urlopen(f"http://127.0.0.1:{self.port}/", timeout=20) as answer:
            return answer.read()


def hello(_environ, start):
    start("200 OK", [("Content-Type", "text/plain")])
    return [b"hello"]


@pytest.fixture
def serving():
    made = []

    def serve(application):
        made.append(Serving(application))
        return made[0]

    yield serve
    made[0].server.close()


def test_half_sent_requests_hold_no_thread(serving):
    here = serving(hello)
    held = [
        here.connect(part)
        for part in (HALF_A_HEADER, HALF_A_BODY)
        for _ in range(2 * web_server.THREADS)
    ]
    assert here.get() == b"hello"
    for client in held:
        client.close()


def test_answers_that_nobody_reads_hold_no_thread(serving):
    def large(_environ, start):
        start("200 OK", [("Content-Type", "text/plain")])
        return [b"x" * 4_000_000]

    here = serving(large)
    held = [
        here.connect(b"GET / HTTP/1.1\r\nHost: here\r\n\r\n") for _ in range(2 * web_server.THREADS)
    ]
    assert len(here.get()) == 4_000_000
    for client in held:
        client.close()


def test_a_request_that_does_not_come_to_its_end_is_given_up(serving, monkeypatch):
    monkeypatch.setattr(web_server, "READ_WITHIN_S", 0.2)
    monkeypatch.setattr(web_server, "LOOKED_AT_EVERY_S", 0)
    here = serving(hello)
    client = here.connect(HALF_A_HEADER)
    client.settimeout(20)

    def drip():
        try:
            while True:
                client.sendall(b"x")
                time.sleep(0.05)
        except OSError:
            return

    threading.Thread(target=drip, daemon=True).start()
    with contextlib.suppress(ConnectionResetError):
        assert client.recv(10) == b""
    assert here.get() == b"hello"


def test_a_client_that_hangs_up_is_noticed_while_it_is_answered(serving):
    noticed = threading.Event()

    def patient(environ, start):
        for _ in range(400):
            if environ["waitress.client_disconnected"]():
                noticed.set()
                break
            time.sleep(0.05)
        start("200 OK", [])
        return [b""]

    here = serving(patient)
    client = here.connect(b"GET / HTTP/1.1\r\nHost: here\r\n\r\n")
    time.sleep(0.3)
    client.close()
    assert noticed.wait(20)
