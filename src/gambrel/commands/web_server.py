"""The process that answers requests: the application behind waitress.

One loop reads all requests and writes all answers; a thread gets a request only once it is there as
a whole, and is free again once its answer is in memory. So a client that sends or reads slowly
keeps a connection and nothing else. The loop also notices clients that hang up, so that what they
asked for can be cancelled.
"""

from __future__ import annotations

import logging
import os
import signal
import sys
import time
from logging.handlers import RotatingFileHandler
from types import FrameType
from typing import Any

from waitress.adjustments import Adjustments
from waitress.channel import HTTPChannel
from waitress.server import TcpWSGIServer
from werkzeug.middleware.proxy_fix import ProxyFix

from gambrel.api.app import (
    create_app,
    current_planning,
    ready_workers,
    send_mail,
    warm_up,
    watch_sources,
)
from gambrel.api.server import resident_bytes
from gambrel.commands.places import APPLICATION_LOG, PAGES, STATE
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
from gambrel.commands.state_files import KEPT_LOGS
from gambrel.core.caches import MIB, hold_together
from gambrel.core.simulation.turns import simulations
from gambrel.work.housekeeping import Housekeeping, give_memory_back

THREADS = 16
MOST_CONNECTIONS = 500
READ_WITHIN_S = 60.0
"""A request that is not there as a whole by then is given up."""
IDLE_S = 120
LOOKED_AT_EVERY_S = 5
SMALL_MIB = 64
"""A simulation that takes no more never waits until there is memory for it."""
MOST_BODY = 49 * MIB
"""A little more than any route takes, so that the route can say what its limit is."""


class Channel(HTTPChannel):  # type: ignore[misc]
    """A connection that knows since when it has been sending a request."""

    sending_since: float | None = None

    def received(self, data: bytes) -> bool:
        if self.sending_since is None:
            self.sending_since = time.time()
        went_on: bool = super().received(data)
        if self.request is None:
            self.sending_since = None
        return went_on


class Server(TcpWSGIServer):  # type: ignore[misc]
    """Answers requests; closes connections that take too long to send one."""

    channel_class = Channel

    def maintenance(self, now: float) -> None:
        super().maintenance(now)
        for channel in list(self.active_channels.values()):
            since = channel.sending_since
            if since is not None and since < now - READ_WITHIN_S:
                channel.will_close = True


def server(application: Any, port: int) -> Server:
    """A server of an application on loopback; `run` answers until the process ends."""
    settings = Adjustments(
        listen=f"127.0.0.1:{port}",
        threads=THREADS,
        connection_limit=MOST_CONNECTIONS,
        channel_timeout=IDLE_S,
        cleanup_interval=LOOKED_AT_EVERY_S,
        channel_request_lookahead=1,  # else nobody notices that a client hung up
        max_request_body_size=MOST_BODY,
        max_request_header_size=64 * 1024,
        ident="",
        log_socket_errors=False,
        asyncore_use_poll=True,
    )
    return Server(application, adj=settings, sockinfo=settings.listen[0])


def main() -> None:
    """Serve the database and with the keys that the environment names."""
    os.umask(0o077)
    log = RotatingFileHandler(
        STATE / APPLICATION_LOG, maxBytes=log_bytes_from(os.environ), backupCount=KEPT_LOGS
    )
    logging.basicConfig(
        level=logging.INFO,
        handlers=[log],
        format="%(asctime)s %(levelname)s %(name)s: %(message)s",
    )
    # It warns of each request that waits for a thread.
    logging.getLogger("waitress.queue").setLevel(logging.ERROR)
    simulations.at_once = os.cpu_count() or 1
    simulations.most_bytes = beside_bytes_from(os.environ)
    simulations.small_bytes = SMALL_MIB * MIB
    simulations.held_bytes = resident_bytes
    hold_together(caches_bytes_from(os.environ))
    port = int(sys.argv[1])
    app = create_app(
        os.environ["GAMBREL_DATABASE_URL"],
        os.environ["GAMBREL_SECRET_KEY"],
        os.environ["GAMBREL_SEALING_KEY"],
        pages=PAGES,
        port=port,
        address=address_from(os.environ),
        allowed=sources_from(os.environ),
        KEEP=keep_from(os.environ),
    )
    current_planning(app).forecasts.hold(forecast_bytes_from(os.environ))
    proxies = proxies_from(os.environ)
    if proxies:
        app.wsgi_app = ProxyFix(app.wsgi_app, x_for=proxies, x_proto=proxies)  # type: ignore[method-assign]
    serving = server(app, port)

    def end(_number: int, _frame: FrameType | None) -> None:
        raise SystemExit(0)

    signal.signal(signal.SIGTERM, end)
    Housekeeping(current_planning(app), keep_from(os.environ)).begin()
    give_memory_back()
    watch_sources(app)
    send_mail(app)
    warm_up(app)
    ready_workers(app)
    serving.run()
    # The workers of long computations end with this process; nothing waits for them.
    os._exit(0)
