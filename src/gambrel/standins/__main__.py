"""`python -m gambrel.standins --port N --mail-port M`: the simulated surroundings of Larkmoor.

Sources that name the estate, a mail server whose mail is shown at /mail, and a runner.

The runner is played where GAMBREL_STAND_IN_FOR names an application and GAMBREL_STAND_IN_TOKEN a
token of it. All of it plays until it is stopped.
"""

from __future__ import annotations

import argparse
import logging
import os
import threading
import time
from datetime import UTC, date, datetime, timedelta

from werkzeug.serving import make_server

from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.objects import Plan
from gambrel.demo import larkmoor
from gambrel.demo.larkmoor import BEGINS
from gambrel.standins.history import nights_of, story, true_world
from gambrel.standins.mail_server import MailServer
from gambrel.standins.runner import Client, Refused, StandInRunner
from gambrel.standins.service import create_service
from gambrel.standins.true_world import TrueWorld
from gambrel.standins.world import World

LATENCY_S = (0.005, 0.06)
"""How long a simulated source takes to answer, from the quickest to the slowest."""


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--mail-port", type=int, required=True)
    parser.add_argument("--event-every-s", type=float, default=300.0)
    given = parser.parse_args()
    world = World(larkmoor())
    world.begin()
    for source in world.sources.values():
        source.latency_s = world.random.uniform(*LATENCY_S)

    def live() -> None:
        while True:
            time.sleep(given.event_every_s)
            world.step()

    threading.Thread(target=live, name="life", daemon=True).start()
    address, token = (
        os.environ.get("GAMBREL_STAND_IN_FOR"),
        os.environ.get("GAMBREL_STAND_IN_TOKEN"),
    )
    if address and token:
        threading.Thread(target=_run, args=(address, token), name="runner", daemon=True).start()
    service = create_service(world)
    mail = MailServer(given.mail_port)
    mail.show_on(service)
    mail.start()
    make_server("127.0.0.1", given.port, service, threaded=True).serve_forever()


def _run(address: str, token: str) -> None:
    """Carry the adopted plan out for as long as the process lives."""
    begins = parse_instant(BEGINS)
    opens = datetime.fromtimestamp(begins, UTC).date()
    nights = nights_of(os.environ)

    def world_of(plan: Plan) -> tuple[TrueWorld, dict[date, tuple[str, ...]]]:
        first = opens - timedelta(days=nights)
        return true_world(plan, first), story(plan, first, nights)

    while True:
        try:
            runner = StandInRunner(Client(address, token), begins, world_of)
            break
        except (OSError, Refused, ValueError) as error:
            logging.info("the application is not there yet: %s", error)
            time.sleep(1.0)

    def stop(wait_s: float) -> bool:
        time.sleep(wait_s)
        return False

    runner.play(stop)


if __name__ == "__main__":
    main()
