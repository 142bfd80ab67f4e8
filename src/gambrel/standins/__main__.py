"""`python -m gambrel.standins --port N`: the simulated sources of Larkmoor, until it is stopped."""

from __future__ import annotations

import argparse
import threading
import time

from werkzeug.serving import make_server

from gambrel.demo import larkmoor
from gambrel.standins.service import create_service
from gambrel.standins.world import World

LATENCY_S = (0.005, 0.06)
"""How long a simulated source takes to answer, from the quickest to the slowest."""


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--port", type=int, required=True)
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
    make_server("127.0.0.1", given.port, create_service(world), threaded=True).serve_forever()


if __name__ == "__main__":
    main()
