"""A stand-in mail server: it takes every mail, keeps the newest in memory and shows them."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from email import message_from_bytes, policy
from typing import Any

from aiosmtpd.controller import Controller
from flask import Flask, abort, render_template_string

KEPT = 100

_HEAD = """<!doctype html><html lang="en"><head><meta charset="utf-8">
<title>Mail (simulated)</title></head>
<body style="font-family:sans-serif;max-width:60em;margin:2em">
"""
_LIST = (
    _HEAD
    + """<h1 style="font-size:20px">Mail that would have gone out</h1>
<p>This is a simulated mail server: nothing leaves this computer.</p>
{% if not mails %}<p>Nothing yet.</p>{% endif %}
<ol>{% for i, mail in mails %}
<li><a href="/mail/{{ i }}">{{ mail.subject }}</a>, to {{ mail.to }}</li>
{% endfor %}</ol></body></html>"""
)
_ONE = (
    _HEAD
    + """<p><a href="/mail">All mail</a></p>
<p><b>{{ mail.subject }}</b><br>from {{ mail.sender }} to {{ mail.to }}</p>
<pre style="white-space:pre-wrap">{{ mail.text }}</pre></body></html>"""
)


@dataclass(frozen=True, slots=True)
class TakenMail:
    sender: str
    to: str
    subject: str
    text: str
    html: str


class MailServer:
    """Takes mail on a port of loopback.

    Attributes:
        taken: the mails, newest last.
        refuses: whether it refuses mail for the moment, as a server does that is in trouble.
    """

    def __init__(self, port: int) -> None:
        self.taken: deque[TakenMail] = deque(maxlen=KEPT)
        self.refuses = False
        self._controller = Controller(self, hostname="127.0.0.1", port=port)

    def start(self) -> None:
        """Begin to take mail."""
        self._controller.start()

    def stop(self) -> None:
        """End."""
        self._controller.stop()

    async def handle_DATA(self, _server: Any, _session: Any, envelope: Any) -> str:  # noqa: N802
        """Take a mail (called by aiosmtpd)."""
        if self.refuses:
            return "451 Try again later"
        message = message_from_bytes(envelope.content, policy=policy.default)
        bodies = {
            part.get_content_type(): part.get_content()
            for part in message.walk()
            if part.get_content_maintype() == "text"
        }
        self.taken.append(
            TakenMail(
                str(message["From"]),
                str(message["To"]),
                str(message["Subject"]),
                bodies.get("text/plain", ""),
                bodies.get("text/html", ""),
            )
        )
        return "250 OK"

    def show_on(self, app: Flask) -> None:
        """Add the pages that show what was taken to an application."""

        @app.get("/mail")
        def every_mail() -> str:
            return render_template_string(_LIST, mails=list(enumerate(self.taken))[::-1])

        @app.get("/mail/<int:number>")
        def one_mail(number: int) -> str:
            if number >= len(self.taken):
                abort(404)
            return render_template_string(_ONE, mail=self.taken[number])
