"""What a night has shown by now: streams, shared resources and change that are not as planned.

Each machine-run that has moved, or moves, tells how fast it was beside how fast it was predicted to
be; each incremental that is done, how much had changed. The logarithms of these ratios are
gathered by what limited the machine-run when it was predicted (the ceiling of a stream, by
transport; or a shared resource), and by folder for change.

The estimate is the mean of a normal distribution whose prior has mean 0 and variance s0², given n
observations of variance s² (A. Gelman and others, "Bayesian Data Analysis", 3rd edition, 2.5), with
where most of the observations crowd together in place of their mean, as many runs share
with more or fewer others than predicted (the shorth for rates, the median for change):

    m = middle · n / (n + s² / s0²),    variance = s² / (n + s² / s0²)

s0, s and τ are those of the ledger, or the usual ones (`night_spreads`).

It holds for now. Things drift back to what they usually are: the correction of a rate is taken to
fade as exp(-t / τ), as in an Ornstein-Uhlenbeck process (G. Uhlenbeck, L. Ornstein, "On the theory
of the Brownian motion", 1930), and the rest of the night is simulated with its mean over that time:

    w = τ / T · (1 - exp(-T / τ))

What has changed on disks does not drift: change is corrected in full.

Limits: streams that share a resource with others than predicted are slower or faster for that
reason alone. Of many, those that go as predicted crowd together; of three they may not.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from math import exp, log, sqrt
from statistics import median
from typing import Any, NamedTuple

from gambrel.core import words
from gambrel.core.ledger.night_spreads import USUAL_NIGHTS, NightSpreads
from gambrel.core.ledger.predicting import actual_parts, predicted_parts
from gambrel.core.ledger.records import MachineRecord, RunRecord
from gambrel.core.ledger.robust import shorth
from gambrel.core.plan.objects import Job, Machine, Plan
from gambrel.core.simulation.varying import STREAM_KINDS
from gambrel.core.units import MINUTE

LEAST_PREDICTED_S, LEAST_SHOWN_S = 30.0, 15.0
"""A machine-run that moves for less tells nothing of a rate."""
LEAST_UNDER_WAY_S = 2 * MINUTE
MOSTLY = 0.6
"""What limits a machine-run for so much of its time is what it tells about."""
FARTHEST = log(4.0)
"""One machine-run tells of no more than four times as fast, or as slow."""

PLAINLY, PLAIN_ERRORS, MOST_TAUGHT = 0.05, 2.0, 4
"""A night taught something where a log factor is so large, and so many times its error."""

CORRECTED = {
    "proxy": ("proxies", ("mib_per_s",)),
    "link": ("links", ("mbit_per_s",)),
    "datastore": ("datastores", ("read_mib_per_s",)),
    "host_nic": ("hosts", ("nic_mbit_per_s",)),
    "host_nic_2": ("hosts", ("backup_nic_mbit_per_s",)),
    "repository": ("repositories", ("ingest_mib_per_s",)),
}
"""For the first part of a resource's name the list of the plan and the keys with its rate."""


@dataclass(frozen=True, slots=True)
class Shown:
    """What a night has shown of one thing.

    Attributes:
        what: "stream:hot_add", the name of a resource as "proxy:quay-p2", or "change:" and a
            folder.
        log_factor: of what was planned, 0 for as planned; `error`: its standard deviation.
        runs: how many machine-runs it rests on.
    """

    what: str
    log_factor: float
    error: float
    runs: int

    @property
    def factor(self) -> float:
        """How many times as fast, or as much, as planned."""
        return exp(self.log_factor)


def folder_of(machine: Machine) -> str:
    """The outermost folder of a machine: what tells of it for others."""
    return machine.folder.partition("/")[0]


class RateTold(NamedTuple):
    """What one machine-run tells of a rate: its logarithm beside predicted, and when it was read
    by half, UTC seconds."""

    log_factor: float
    at: float


def rates_told(
    plan: Plan, runs: Iterable[RunRecord], at: float
) -> Mapping[str, Sequence[RateTold]]:
    """What machine-runs tell of rates by an instant, by what they are about."""
    told: dict[str, list[RateTold]] = defaultdict(list)
    for run in runs:
        for record in run.machines.values():
            if record.machine in plan.machine_by_id and record.predicted is not None:
                for what, ratio, when in _rate(record, at):
                    told[what].append(RateTold(_within(log(ratio)), when))
    return told


def changes_told(plan: Plan, runs: Iterable[RunRecord]) -> Mapping[str, Sequence[float]]:
    """The logarithms of how many times as much as predicted machines changed, by folder.

    Each machine tells one: its runs in a night differ from what was planned by the same factor.
    """
    changed: dict[str, dict[str, list[float]]] = defaultdict(lambda: defaultdict(list))
    for run in runs:
        job = plan.job_by_id.get(run.job)
        for record in run.machines.values():
            machine = plan.machine_by_id.get(record.machine)
            if job is None or machine is None or record.predicted is None:
                continue
            ratio = _change(job, record)
            if ratio is not None:
                changed[folder_of(machine)][machine.id].append(_within(log(ratio)))
    return {
        f"change:{folder}": [median(told) for told in each.values()]
        for folder, each in changed.items()
    }


def _within(log_factor: float) -> float:
    return max(-FARTHEST, min(FARTHEST, log_factor))


def shown_by(
    plan: Plan, runs: Iterable[RunRecord], at: float, spreads: NightSpreads = USUAL_NIGHTS
) -> Mapping[str, Shown]:
    """What the runs of a night have shown by an instant, by what it is about.

    Args:
        spreads: how much nights vary of themselves: the priors.
    """
    runs = list(runs)
    rates = rates_told(plan, runs, at)
    seen = {
        **{what: [told.log_factor for told in each] for what, each in rates.items()},
        **changes_told(plan, runs),
    }
    return {what: _estimate(what, told, spreads) for what, told in sorted(seen.items())}


def _rate(record: MachineRecord, at: float) -> Iterator[tuple[str, float, float]]:
    """What a machine-run tells of a rate: what limited it, how fast it was beside predicted, and
    when it was read by half."""
    predicted, prepared = record.predicted, record.prepared
    assert predicted is not None
    if prepared is None:
        return
    expected = predicted_parts(predicted["parts"])["moving"]
    if expected < LEAST_PREDICTED_S or not predicted["source_bytes"]:
        return
    took = actual_parts(record)["moving"]
    if took is None and record.ended is None:
        told = max((disk.at for disk in record.disks.values()), default=prepared)
        took = min(told, at) - prepared
        if took < LEAST_UNDER_WAY_S:
            return
    moved = record.moving_bytes()
    if took is None or took < LEAST_SHOWN_S or moved <= 0:
        return
    by: dict[str, float] = defaultdict(float)
    for kind, seconds, limited_by in predicted["parts"]:
        if kind == "moving":
            by[limited_by or ""] += seconds
    limiting = max(by, key=lambda name: by[name], default="")
    if by.get(limiting, 0.0) < MOSTLY * expected:
        return
    if limiting == "transport":
        transports = {d.transport or "agent" for d in record.disks.values()}
        if len(transports) != 1:
            return
        limiting = f"stream:{transports.pop().replace('-', '_')}"
        if limiting.removeprefix("stream:") not in STREAM_KINDS:
            return
    elif limiting.partition(":")[0] not in CORRECTED:
        return
    ratio = (moved / took) / (predicted["source_bytes"] / expected)
    yield limiting, ratio, prepared + took / 2.0


def _change(job: Job, record: MachineRecord) -> float | None:
    """How many times as much as predicted had changed of a machine; None where that is not told.

    Where changes are not tracked, all of it is read, whatever changed; what was stored tells.
    """
    assert record.predicted is not None
    told = "source_bytes" if job.tracking else "stored_bytes"
    found, expected = getattr(record, told), record.predicted.get(told) or 0.0
    done = record.outcome == "done"
    if not done or not record.kind == record.predicted["kind"] == "incremental":
        return None
    return found / expected if found > 0 and expected > 0 else None


def _estimate(what: str, told: Sequence[float], spreads: NightSpreads) -> Shown:
    prior, noise = spreads.of(what), spreads.noise_of(what)
    middle = median(told) if what.startswith("change:") else shorth(told)
    weight = len(told) + (noise / prior) ** 2
    return Shown(what, middle * len(told) / weight, noise / sqrt(weight), len(told))


def unsure(shown: Mapping[str, Shown], what: str, spreads: NightSpreads) -> float:
    """The standard deviation of a log factor: what is left of it where something was shown."""
    found = shown.get(what)
    return spreads.of(what) if found is None else found.error


def fading(rest_s: float, fades_s: float) -> float:
    """How much of a correction of rates holds over the rest of a night, 0 to 1: w above."""
    over = rest_s / fades_s
    return 1.0 if over <= 1e-9 else (1.0 - exp(-over)) / over


def corrected(plan: Plan, shown: Mapping[str, Shown], weight: float) -> Plan:
    """A plan with what a night has shown in place of what it says, for the rest of the night.

    Of rates a part is taken over, the weight; see `fading`.

    What is under way keeps what it has moved; a machine that has started has in all what section 4
    says of it in the plan.
    """

    def rate(what: str) -> float:
        found = shown.get(what)
        return 1.0 if found is None else exp(weight * found.log_factor)

    lists: dict[str, Any] = {}
    for kind, (name, keys) in CORRECTED.items():
        objects = getattr(plan, name)
        if any(f"{kind}:{each.id}" in shown for each in objects):
            lists[name] = tuple(_faster(each, keys, rate(f"{kind}:{each.id}")) for each in objects)
    told = plan.transports
    transports = replace(
        told,
        **{
            f"{kind}_mib_per_s": getattr(told, f"{kind}_mib_per_s") * rate(f"stream:{kind}")
            for kind in STREAM_KINDS
        },
    )
    started = {
        machine.machine
        for run in (plan.state.running.runs if plan.state.running else ())
        for machine in run.machines
        if machine.start is not None and machine.ended is None
    }
    return replace(
        plan,
        **lists,
        transports=transports,
        machines=tuple(
            machine if machine.id in started else _changing(machine, shown)
            for machine in plan.machines
        ),
    )


def _faster(thing: Any, keys: Sequence[str], factor: float) -> Any:
    known = {key: getattr(thing, key) for key in keys}
    if factor == 1.0 or any(value is None for value in known.values()):
        return thing
    return replace(thing, **{k: v * factor for k, v in known.items()})


def _changing(machine: Machine, shown: Mapping[str, Shown]) -> Machine:
    found = shown.get(f"change:{folder_of(machine)}")
    if found is None:
        return machine
    return replace(machine, daily_change=machine.daily_change * found.factor)


# --- in words -----------------------------------------------------------------------------------


def rate_in_words(plan: Plan, what: str) -> str:
    """What a rate is called, as "Streams by hot-add" or "Proxy quay-p2"."""
    kind, _, name = what.partition(":")
    if kind == "stream":
        return f"Streams by {_STREAM_WORDS[name]}"
    return words.load_label(plan, what)


_STREAM_WORDS = {"direct": "direct", "hot_add": "hot-add", "network": "network", "agent": "agent"}


def shown_in_words(plan: Plan, shown: Shown) -> str:
    """What a night has shown, as "Streams by hot-add: 0.92 of the plan, from 41 machines"."""
    kind, _, name = shown.what.partition(":")
    by = f", from {words.count(shown.runs, 'machine')}"
    if kind == "change":
        of = f"Machines in {name}" if name else "Machines"
        return f"{of} changed {shown.factor:.2f} times as much as planned{by}"
    return f"{rate_in_words(plan, shown.what)}: {shown.factor:.2f} times the planned rate{by}"


def taught(plan: Plan, runs: Iterable[RunRecord], at: float) -> list[str]:
    """What a night has plainly shown to be other than planned, in words, the farthest off first."""
    plain = [
        each
        for each in shown_by(plan, runs, at).values()
        if abs(each.log_factor) > max(PLAINLY, PLAIN_ERRORS * each.error)
    ]
    plain.sort(key=lambda each: -abs(each.log_factor))
    return [shown_in_words(plan, each) for each in plain[:MOST_TAUGHT]]
