"""A source that drips, floods or nests cannot hold a discovery up or fill the memory."""

import socket
import threading
import time

import pytest

from gambrel.connectors import asking
from gambrel.connectors.asking import SourceError, ask


@pytest.fixture
def source():
    """Serve answers of one's own: a function that sets what is sent and returns the address."""
    server = socket.create_server(("127.0.0.1", 0))
    sending = {}
    stopped = threading.Event()

    def serve():
        while not stopped.is_set():
            try:
                connection, _ = server.accept()
            except OSError:
                return
            with connection:
                connection.recv(65536)
                try:
                    for part in sending["parts"]():
                        connection.sendall(part)
                except OSError:
                    pass

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()

    def answer(parts):
        sending["parts"] = parts
        return f"http://127.0.0.1:{server.getsockname()[1]}/"

    yield answer
    stopped.set()
    server.shutdown(socket.SHUT_RDWR)
    server.close()
    thread.join(10)


HEAD = b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nConnection: close\r\n"


def test_an_answer_that_drips_is_given_up(source, monkeypatch):
    monkeypatch.setattr(asking, "WHOLE_WITHIN_S", 1.0)

    def drips():
        yield HEAD + b"Content-Length: 100000\r\n\r\n"
        for _ in range(600):
            time.sleep(0.05)
            yield b" "

    with pytest.raises(SourceError, match="not whole within 1 s"):
        ask("GET", source(drips), within_s=5)


def test_an_answer_that_floods_is_given_up(source, monkeypatch):
    monkeypatch.setattr(asking, "MOST_BYTES", 1 << 20)

    def floods():
        yield HEAD + b"\r\n"
        for _ in range(10_000):
            yield b"[" * 65536

    with pytest.raises(SourceError, match="larger than 1 MiB"):
        ask("GET", source(floods))


def test_an_answer_that_nests_is_no_answer(source):
    def nests():
        yield HEAD + b"\r\n" + b"[" * 200_000

    with pytest.raises(SourceError, match="not what this make sends"):
        ask("GET", source(nests))


def test_what_a_source_says_of_its_refusal_is_one_line_of_text(source):
    def refuses():
        yield HEAD.replace(b"200 OK", b"403 No") + b"\r\n" + b'{"reason": "no\\n\\u0007way"}'

    with pytest.raises(SourceError) as error:
        ask("GET", source(refuses))
    assert error.value.failure == "no  way"
