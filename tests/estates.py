"""Small estates for tests: a source with two hosts, and a service that plays a whole world."""

from __future__ import annotations

import contextlib
import threading
from dataclasses import replace
from functools import cache

from werkzeug.serving import make_server

from gambrel.core.estate.inventory import (
    FoundDatastore,
    FoundDisk,
    FoundHost,
    FoundMachine,
    Inventory,
)
from gambrel.core.plan.reading import read_plan
from gambrel.demo import larkmoor
from gambrel.standins.service import create_service


@cache
def larkmoor_file():
    """The plan file of larkmoor, made once; nobody changes it."""
    return larkmoor()


@cache
def larkmoor_plan():
    return read_plan(larkmoor_file())


@cache
def young_larkmoor():
    """Larkmoor with the points of few machines, which is stored quickly."""
    points = [
        point
        for point in larkmoor_file()["state"]["points"]
        if point["machine"].startswith(("lab-", "staging-"))
    ]
    return read_plan({**larkmoor_file(), "state": {"points": points}})


def found_vm(uid="m1", name="alpha", host="h-1", **more):
    disks = more.pop("disks", (FoundDisk("system", 100.0, 40.0, 4.0, "s-1"),))
    return FoundMachine(uid, name, "vm", disks, host, **more)


def found_server(uid="m9", name="gate", **more):
    return FoundMachine(uid, name, "server", (FoundDisk("system", 50.0, 20.0),), **more)


def inventory(*machines, source="manager", complete=True, hosts=()):
    return Inventory(
        source,
        "quay",
        (FoundHost("h-1", "h1", "c"), FoundHost("h-2", "h2", "c"), *hosts),
        (FoundDatastore("s-1", "store", ("h-1", "h-2")),),
        machines,
        complete,
    )


def known(source="manager", uid="m1"):
    return {"found": {"source": source, "uid": uid}}


def estate_plan(**changes):
    """A plan whose estate is what `inventory(found_vm())` says, with a job over folder "a"."""
    file = {
        "format": "gambrel-plan/1",
        "sites": [{"id": "quay", "time_zone": "Europe/Dublin"}],
        "hosts": [
            {"id": "h1", "site": "quay", "cluster": "c", **known(uid="h-1")},
            {"id": "h2", "site": "quay", "cluster": "c", **known(uid="h-2")},
        ],
        "datastores": [{"id": "store", "hosts": ["h1", "h2"], **known(uid="s-1")}],
        "proxies": [{"id": "p1", "site": "quay", "slots": 2, "on_host": "h1"}],
        "repositories": [{"id": "vault", "site": "quay"}],
        "machines": [
            {
                "id": "alpha", "kind": "vm", "host": "h1", "folder": "a", "facts": known(),
                "disks": [
                    {
                        "id": "system", "provisioned_gib": 100, "used_gib": 40, "swap_gib": 4,
                        "datastore": "store",
                    }
                ],
            }
        ],
        "jobs": [
            {
                "id": "nightly", "repository": "vault",
                "machines": {"rules": [[{"field": "folder", "op": "is", "value": "a"}]]},
                "schedules": [
                    {
                        "kind": "full", "rrule": "FREQ=DAILY", "start": "2026-11-02T20:00",
                        "time_zone": "Europe/Dublin",
                    }
                ],
            }
        ],
        "state": {
            "points": [
                {
                    "job": "nightly", "machine": "alpha", "repository": "vault", "kind": "full",
                    "at": "2026-11-01T20:00:00Z", "exists_from": "2026-11-01T20:30:00Z",
                    "stored_bytes": 1000,
                }
            ]
        },
        **changes,
    }  # fmt: skip
    return read_plan(file)


def in_folder(machine, folder="a", **more):
    return replace(machine, folder=folder, **more)


@contextlib.contextmanager
def service_of(world):
    """The address at which a world's sources answer while the block runs."""
    server = make_server("127.0.0.1", 0, create_service(world), threaded=True)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.port}"
    finally:
        server.shutdown()
        thread.join()
        server.server_close()
