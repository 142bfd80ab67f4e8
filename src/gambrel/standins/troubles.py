"""What goes wrong in the stand-in's world, and when: seeded, and written down for each night."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass, replace
from datetime import date
from typing import Literal, get_args

from gambrel.core.ledger.ordering import end_machine
from gambrel.core.model.destinations import destination_of
from gambrel.core.nights.nights import Night
from gambrel.core.plan.objects import Job, Machine, Plan, Running, RunningMachine
from gambrel.core.questions.what_if import LoseProxy
from gambrel.core.units import HOUR, MINUTE
from gambrel.standins.true_world import chance

TroubleKind = Literal[
    "locked",
    "quiesce",
    "access",
    "host restarts",
    "link down",
    "proxy dies",
    "repository full",
    "no power",
]
TROUBLE_KINDS: tuple[TroubleKind, ...] = get_args(TroubleKind)
STANDING: tuple[TroubleKind, ...] = ("locked", "quiesce", "access", "repository full", "no power")
"""Troubles that fail whatever starts while they last."""
OF_MACHINES: tuple[TroubleKind, ...] = ("locked", "quiesce", "access")
"""Troubles of a single machine."""
TINY_MBIT = 0.5
"""What is left of a link that is down; a rate of nothing would have no end."""


@dataclass(frozen=True, slots=True)
class Trouble:
    """Something that is wrong with a thing from an instant to another (UTC seconds)."""

    kind: TroubleKind
    subject: str
    begins: float
    ends: float

    @property
    def words(self) -> str:
        """The reason that machine-runs give that fail by it."""
        return {
            "locked": "the machine is still locked by an earlier backup",
            "quiesce": "it could not be quiesced: a writer in the guest did not answer in time",
            "access": f"access denied: the password for {self.subject} has expired",
            "host restarts": f"host {self.subject} restarted while it was read",
            "link down": f"link {self.subject} was down",
            "proxy dies": f"proxy {self.subject} stopped answering",
            "repository full": f"repository {self.subject} is full",
            "no power": f"no power at {self.subject}",
        }[self.kind]

    @property
    def leaves(self) -> tuple[str, ...]:
        """What a machine-run leaves behind that fails by it."""
        if self.kind == "host restarts":
            return ("locked", "snapshot")
        return ("snapshot",) if self.kind == "quiesce" else ()

    def fails_after_s(self) -> float:
        """How long after its start a machine fails by it."""
        return {"locked": 4.0, "quiesce": 75.0, "access": 8.0}.get(self.kind, 20.0)

    def concerns(self, plan: Plan, job: Job, machine: Machine) -> bool:
        """Whether a machine in a run of a job fails by it."""
        if self.kind in OF_MACHINES:
            return machine.id == self.subject
        if self.kind == "repository full":
            return destination_of(plan, job, machine) == self.subject
        if self.kind == "no power":
            repository = plan.repository_by_id[destination_of(plan, job, machine)]
            return self.subject in (_site(plan, machine), repository.site)
        if self.kind == "host restarts":
            return machine.host == self.subject
        return False


def _site(plan: Plan, machine: Machine) -> str | None:
    if machine.host is not None:
        return plan.host_by_id[machine.host].site
    return machine.site


def disturbed(plan: Plan, troubles: Iterable[Trouble]) -> Plan:
    """A plan while some troubles last: links that are down, proxies that are gone."""
    for trouble in troubles:
        if trouble.kind == "link down":
            plan = replace(
                plan,
                links=tuple(
                    replace(link, mbit_per_s=TINY_MBIT, limits=())
                    if link.id == trouble.subject
                    else link
                    for link in plan.links
                ),
            )
        elif trouble.kind == "proxy dies" and any(p.id == trouble.subject for p in plan.proxies):
            plan = LoseProxy(trouble.subject).apply(plan)
    return plan


def failed(
    running: Running, fails: Callable[[str, RunningMachine], bool]
) -> tuple[Running, list[tuple[str, float, str]]]:
    """What is under way once some machine-runs have failed, and which they were.

    Args:
        fails: of a job's id and a machine-run that has started, whether it fails now.
    """
    found: list[tuple[str, float, str]] = []
    runs = []
    for run in running.runs:
        machines = []
        for machine in run.machines:
            going = machine.start is not None and machine.state in ("preparing", "moving")
            if going and fails(run.job, machine):
                found.append((run.job, run.occurrence, machine.machine))
                machine = end_machine(machine, running.at)
            machines.append(machine)
        runs.append(replace(run, machines=tuple(machines)))
    return replace(running, runs=tuple(runs)), found


def without_proxy(running: Running, proxy: str) -> Running:
    """What is under way once a proxy is gone: the disks that it read start over elsewhere."""
    runs = []
    for run in running.runs:
        machines = []
        for machine in run.machines:
            hit = any(d.proxy == proxy and d.holds and not d.moved for d in machine.disks)
            if hit and machine.state == "preparing":
                # It has moved nothing: it waits for another proxy.
                machine = RunningMachine(machine.machine, "waiting", machine.queued)
            elif hit:
                disks = tuple(
                    replace(d, holds=False, proxy=None, transport=None, moved_bytes=0.0)
                    if d.proxy == proxy and d.holds and not d.moved
                    else d
                    for d in machine.disks
                )
                machine = replace(machine, disks=disks)
            machines.append(machine)
        runs.append(replace(run, machines=tuple(machines)))
    return replace(running, runs=tuple(runs))


# --- the story of Larkmoor ----------------------------------------------------------------------


def troubles_of(
    seed: int, plan: Plan, night: Night, told: dict[date, tuple[str, ...]]
) -> list[Trouble]:
    """What goes wrong in a night: what the story tells of it, else small things by chance."""
    if night.date in told:
        found = [_told(plan, night, what) for what in told[night.date]]
        return [trouble for trouble in found if trouble is not None]
    by_chance = chance(seed, "trouble", night.date)
    if by_chance.random() < 0.18:
        machine = by_chance.choice(plan.machines)
        return [Trouble("quiesce", machine.id, night.start, night.end)]
    return []


def subjects_of(plan: Plan, kind: str) -> Collection[str]:
    """The ids of the things of a plan that can have a trouble of a kind."""
    by_kind: dict[str, Collection[str]] = {
        "host restarts": plan.host_by_id,
        "link down": {link.id for link in plan.links},
        "proxy dies": {proxy.id for proxy in plan.proxies},
        "repository full": plan.repository_by_id,
        "no power": plan.site_by_id,
    }
    return by_kind.get(kind, plan.machine_by_id)


def _told(plan: Plan, night: Night, what: str) -> Trouble | None:
    """A trouble as the story writes it: "kind:subject:hours after noon:hours"."""
    kind, rest = what.split(":", 1)
    subject, after, length = rest.rsplit(":", 2)
    if subject not in subjects_of(plan, kind):
        return None
    begins = night.start + float(after) * HOUR
    return Trouble(kind, subject, begins, begins + float(length) * HOUR + MINUTE)  # type: ignore[arg-type]
