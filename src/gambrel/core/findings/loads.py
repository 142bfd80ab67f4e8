"""Findings about what is full, what is idle, and which way data take."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence

from gambrel.core.findings.model import Finding, Look, Subject
from gambrel.core.loads.load_series import LoadSeries, load_names, load_table
from gambrel.core.model.paths import Candidate, Pin
from gambrel.core.nights.nights import night_at, planner_zone
from gambrel.core.plan.objects import Disk, Job, Machine
from gambrel.core.simulation.forecast import Run
from gambrel.core.units import HOUR, SAME_INSTANT
from gambrel.core.words import count, duration, load_label, size


def _full_bytes(run: Run) -> float:
    """What a run reads for fulls."""
    totals = run.totals()
    if "full" not in totals.kinds:
        return 0.0
    if totals.kinds == ("full",) and not totals.synthetic:
        return totals.source_bytes
    return sum(m.source_bytes for m in run.machines if m.kind == "full" and not m.synthetic)


def clumped_fulls(look: Look) -> Iterator[Finding]:
    """Most of a week's full bytes are moved in one night."""
    zone = planner_zone(look.plan)
    volume: dict[str, float] = defaultdict(float)
    jobs: dict[str, set[str]] = defaultdict(set)
    names: dict[str, str] = {}
    for run in look.runs:
        night = night_at(run.occurrence, zone)
        key = night.date.isoformat()
        names[key] = f"{night.date:%A}"
        fulls = _full_bytes(run)
        volume[key] += fulls
        if fulls > 0:
            jobs[key].add(run.job)
    total = sum(volume.values())
    if total <= 0:
        return
    night_key = max(volume, key=lambda key: volume[key])
    share, many = volume[night_key] / total, len(jobs[night_key])
    if share < look.thresholds.clump_share or many < look.thresholds.clump_jobs:
        return
    yield Finding(
        "fulls clumped",
        "risks",
        (Subject("night", night_key),),
        f"{names[night_key]} night carries {share:.0%} of the week's fulls, {count(many, 'job')}.",
        f"{size(volume[night_key])} of {size(total)} are read that night; "
        "fulls on other nights would take the same time with less of a queue.",
        share,
        {"share": share, "jobs": many, "bytes": volume[night_key]},
        known_by=0,
    )


def _mean_share(series: LoadSeries, start: float, end: float) -> float:
    """The mean load in a part of the span as a part of the capacity."""
    limit = max((value for _, value in series.capacity or ()), default=0.0)
    return series.mean(start, end) / limit if limit > 0 else 0.0


def _family(name: str) -> str:
    """What a load is of: links and datastores cannot stand in for one another, proxies can."""
    return name.removeprefix("slots:").partition(":")[0]


def squeezed_while_peers_idle(look: Look) -> Iterator[Finding]:
    """A pool or resource is full for hours with others waiting, while its peers have room."""
    names = [n for n in load_names(look.plan) if _family(n) in ("proxy", "repository")]
    table = {s.name: s for s in load_table(look.forecast, names, look.start, look.end)}
    families: dict[str, list[str]] = defaultdict(list)
    for name in names:
        families[name.rpartition(":")[0]].append(name)
    for family in families.values():
        for name in family:
            pressed, waited = table[name].pressed_s, table[name].waited
            if waited is None or pressed < look.thresholds.squeeze_hours * HOUR:
                continue
            first, last = waited
            peers = [table[peer] for peer in family if peer != name]
            idle = [
                peer
                for peer in peers
                if peer.capacity and _mean_share(peer, first, last) <= look.thresholds.idle_share
            ]
            if not idle:
                continue
            ident = name.rpartition(":")[2]
            owner = Subject("proxy" if _family(name) == "proxy" else "repository", ident)
            jobs = len(table[name].waiting_jobs)
            label = load_label(look.plan, name)
            yield Finding(
                "squeeze with idle peers",
                "risks",
                (owner, Subject("resource", name)),
                f"{label} is full with others waiting for {duration(pressed)} of this week.",
                f"{count(jobs, 'job')} {'waits' if jobs == 1 else 'wait'} there, while "
                + ", ".join(load_label(look.plan, peer.name) for peer in idle[:3])
                + " have room.",
                pressed,
                {"pressed_s": pressed, "jobs": jobs, "idle_peers": len(idle)},
                first,
                known_by=2,
            )


# --- ways -------------------------------------------------------------------------------------


def _ways(look: Look, job: Job) -> Iterator[tuple[str, str, tuple[Candidate, ...]]]:
    """(machine, disk, candidates) of every disk of a VM in a job."""
    for machine in look.machines_of[job.id]:
        if machine.kind == "vm":
            for disk in look.disks(job, machine):
                yield machine.id, disk.id, look.forecast.topology.candidates(job, machine, disk)


def pinned_to_a_worse_way(look: Look) -> Iterator[Finding]:
    """A pin on proxies or a transport makes disks go a slower way than they could."""
    topology = look.forecast.topology
    for job in look.plan.jobs:
        if job.proxies is None and job.transport == "auto":
            continue
        worse: list[tuple[Machine, Disk, Candidate, Candidate]] = []
        for machine in look.machines_of[job.id]:
            if machine.kind != "vm":
                continue
            for disk in look.disks(job, machine):
                pinned = topology.candidates(job, machine, disk)
                free = topology.unpinned(job, machine, disk)
                if pinned and free and free[0].ceiling > pinned[0].ceiling:
                    worse.append((machine, disk, pinned[0], free[0]))
        if not worse:
            continue
        _, _, slow, fast = worse[0]
        is_forced, without = _forced_by(look, job, worse)
        machines = len({machine.id for machine, _, _, _ in worse})
        yield Finding(
            "pin forces a worse transport",
            "wastes",
            (Subject("job", job.id), *(Subject("proxy", p) for p in job.proxies or ())),
            f"{job.name} {is_forced}: {count(len(worse), 'disk')} of "
            f"{count(machines, 'machine')} go by {_said(slow.transport)}.",
            f"Without {without} they would use {_said(fast.transport)}.",
            float(len(worse)),
            {"disks": len(worse), "machines": machines},
        )


def _forced_by(
    look: Look, job: Job, worse: Sequence[tuple[Machine, Disk, Candidate, Candidate]]
) -> tuple[str, str]:
    """What makes disks go a slower way, as (what holds them, without what they would not).

    The first of transport, pin of the job and pin of the host without which any of the disks has a
    faster way; all that there are of them, where only lifting several helps.
    """
    topology, host_by_id = look.forecast.topology, look.plan.host_by_id
    hosts = sorted({machine.host for machine, _, _, _ in worse if machine.host is not None})
    pinned = [host for host in hosts if host_by_id[host].proxies is not None]
    held: dict[Pin, tuple[str, str]] = {}
    if job.transport != "auto":
        held["transport"] = f"is held to {_said(job.transport)}", "that"
    if job.proxies is not None:
        held["job"] = f"is pinned to {' or '.join(job.proxies) or 'no proxy'}", "the pin"
    if pinned:
        held["host"] = f"reads {' and '.join(pinned)}, which is pinned", "the pin of the host"

    def helps(pin: Pin) -> bool:
        freed = (
            (topology.freed(job, machine, disk, frozenset({pin})), slow)
            for machine, disk, slow, _ in worse
        )
        return any(then and then[0].ceiling > slow.ceiling for then, slow in freed)

    alone = next((pin for pin in held if helps(pin)), None)
    if alone is not None:
        return held[alone]
    return " and ".join(words for words, _ in held.values()), "all of that"


def _said(transport: str | None) -> str:
    return {"hot_add": "hot-add", "direct": "direct access", "network": "the network"}.get(
        transport or "", "an agent"
    )


def read_across_sites(look: Look) -> Iterator[Finding]:
    """A disk is read by a proxy at another site than its host's."""
    for job in look.plan.jobs:
        far: dict[str, set[str]] = defaultdict(set)
        for machine, _, candidates in _ways(look, job):
            site = look.plan.site_of(look.plan.machine_by_id[machine])
            for way in candidates:
                if way.transport == "network" and way.proxy is not None:
                    proxy = look.plan.proxies[way.proxy]
                    if proxy.site != site:
                        far[proxy.id].add(machine)
        if not far:
            continue
        machines = set().union(*far.values())
        proxies = " or ".join(far)
        yield Finding(
            "disk read across sites",
            "wastes",
            (Subject("job", job.id), *(Subject("proxy", proxy) for proxy in far)),
            f"{job.name}: {count(len(machines), 'machine')} would be read by {proxies} "
            "at another site.",
            "Every byte crosses the link before it is compressed; "
            "a proxy at the host's site would send less.",
            float(len(machines)),
            {"machines": len(machines)},
        )


def unused_proxies(look: Look) -> Iterator[Finding]:
    """No job's disks can be read by a proxy."""
    used = {
        way.proxy
        for job in look.plan.jobs
        for _, _, candidates in _ways(look, job)
        for way in candidates
    }
    for position, proxy in enumerate(look.plan.proxies):
        if position not in used:
            yield Finding(
                "proxy that no job can use",
                "wastes",
                (Subject("proxy", proxy.id),),
                f"{proxy.id} reads nothing: no job has a disk for which it is among the best.",
                f"Its {count(proxy.slots, 'slot')} idle all week; give it a datastore to reach, "
                "lift a pin, or take it away.",
                float(proxy.slots),
                {"slots": proxy.slots},
            )


def slots_above_cores(look: Look) -> Iterator[Finding]:
    """A proxy has more slots than its cores serve."""
    for proxy in look.plan.proxies:
        if proxy.cores is None:
            continue
        fit = proxy.cores * look.thresholds.slots_per_core
        if proxy.slots <= fit + SAME_INSTANT:
            continue
        yield Finding(
            "slots above cores",
            "risks",
            (Subject("proxy", proxy.id),),
            f"{proxy.id} has {count(proxy.slots, 'slot')} on {count(proxy.cores, 'core')}.",
            f"Its cores serve about {fit:.0f} at once; more streams only slow one another down.",
            proxy.slots - fit,
            {"slots": proxy.slots, "cores": proxy.cores},
        )


RULES = {
    "fulls clumped": clumped_fulls,
    "squeeze with idle peers": squeezed_while_peers_idle,
    "pin forces a worse transport": pinned_to_a_worse_way,
    "disk read across sites": read_across_sites,
    "proxy that no job can use": unused_proxies,
    "slots above cores": slots_above_cores,
}
