"""Every figure of docs/benchmarks.md, measured in one run and printed with the machine's facts."""

from __future__ import annotations

import http.client
import json
import os
import platform
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import date, timedelta
from functools import partial
from pathlib import Path
from typing import Any

import numba
import numpy
from exact_weeks import exact_weeks, longest_week
from learning import learning
from ledger_pages import the_ledger
from months_ahead import months_ahead
from recoveries import day_of_the_loss
from screens import screens
from simpy_model import Model
from sizes import (
    GROWTHS,
    JOBS_TIMES,
    LEDGER_ROWS,
    PREVIEWS,
    REPEATED,
    TINY,
    TYPED_INTO,
    VARIABLE,
    WORLDS,
    large,
    sample,
)
from sweeps import sweeps
from timing import seconds
from under_way import a_night_under_way
from weeks import better_weeks

from gambrel import demo
from gambrel.commands.database import Instance, free_port
from gambrel.commands.opening import prepared
from gambrel.commands.serving import Application
from gambrel.core.estate.differences import differences
from gambrel.core.estate.inventory import (
    FoundDatastore,
    FoundDisk,
    FoundHost,
    FoundMachine,
    Inventory,
)
from gambrel.core.findings import find
from gambrel.core.nights.nights import week_of
from gambrel.core.plan.objects import Plan, RuleSchedule
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation import reference
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.simulation.simulate import simulate
from gambrel.store import acceptances, inbox, sources
from gambrel.store.database import connect, sessions
from gambrel.store.plans import store_plan, version_plan
from gambrel.store.sealing import Sealer
from gambrel.store.sign_in import new_link

PAGE = Path(__file__).parents[1] / "docs" / "benchmarks.md"
WEEK = week_of(date(2026, 11, 2), "Europe/Dublin")
START, END = WEEK[0].start, WEEK[-1].end


def memory_mib(process: int | str, key: str) -> float:
    """The memory that a process holds (VmRSS), or the most that it ever held (VmHWM)."""
    status = Path(f"/proc/{process}/status").read_text(encoding="utf-8")
    found = re.search(rf"{key}:\s+(\d+) kB", status)
    assert found is not None
    return int(found[1]) / 2**10


def peak_gib() -> float:
    """The most memory that this process has had; `getrusage` counts that of its parent as well."""
    return memory_mib("self", "VmHWM") / 2**10


def facts() -> list[str]:
    processor = platform.processor() or platform.machine()
    for line in Path("/proc/cpuinfo").read_text().splitlines():
        if line.startswith("model name"):
            processor = line.partition(":")[2].strip()
            break
    cores = len([x for x in Path("/proc/cpuinfo").read_text().split("\n") if "processor\t" in x])
    memory = int(Path("/proc/meminfo").read_text().split()[1]) / 2**20
    return [
        f"{processor}, {cores} cores, {memory:.0f} GiB",
        f"Python {platform.python_version()}, numba {numba.__version__}, numpy {numpy.__version__}",
    ]


# --- engine, reference, SimPy -------------------------------------------------------------------


def same_ends(model: Model, forecast: Forecast) -> tuple[int, int]:
    """(machine-runs, those whose outcome is the same and whose end is within a second)."""
    total = same = 0
    for run in forecast.runs:
        for machine in run.machines:
            total += 1
            found = model.ended.get((run.job, run.occurrence, machine.machine))
            if found and found[0] == machine.outcome and abs(found[1] - machine.ended) < 1:
                same += 1
    return total, same


def engines(plan: Plan) -> list[str]:
    simulate(plan, START, END)
    engine = seconds(lambda: simulate(plan, START, END), REPEATED)
    plain = seconds(lambda: reference.simulate(plan, START, END))
    model = Model(plan, START, END)
    simpy = seconds(model.run)
    forecast = simulate(plan, START, END)
    total, same = same_ends(model, forecast)
    looked = seconds(lambda: find(simulate(plan, START, END), START, END), 3)
    return [
        "| a week of `larkmoor` | time | against the engine |",
        "|---|---|---|",
        f"| the engine, layout of the plan known | {engine * 1000:.0f} ms | 1 |",
        f"| the reference in plain Python | {plain:.1f} s | {plain / engine:.0f} times |",
        f"| the model written with SimPy | {simpy:.1f} s | {simpy / engine:.0f} times |",
        f"| the engine and all findings | {looked * 1000:.0f} ms | {looked / engine:.1f} times |",
        "",
        f"Of {total:,} machine-runs, SimPy's model ends {same:,} with the same outcome within a "
        "second; the reference agrees to the tolerance of the worked cases.",
    ]


# --- growth and size ----------------------------------------------------------------------------


def in_a_process(call: str) -> Any:
    """What a function of this module returns in a process of its own."""
    code = f"import measure, json; print(json.dumps(measure.{call}))"
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True,
        cwd=Path(__file__).parent,
    )  # fmt: skip
    return json.loads(done.stdout)


def one_size(machines: int, sites: int) -> dict[str, float]:
    """A week of an estate of some size, simulated for the first time."""
    simulate(read_plan(demo.large(100, 1)), START, END)
    plan = read_plan(demo.large(machines, sites))
    first = seconds(lambda: simulate(plan, START, END))
    forecast = simulate(plan, START, END)
    peak = peak_gib()
    return {
        "disks": sum(len(machine.disks) for machine in plan.machines),
        "machine_runs": sum(len(run.machines) for run in forecast.runs),
        "stretches": len(forecast.loads.flows_in()[0]),
        "first_s": first,
        "peak_gib": peak,
    }


def by_turns(sizes: list[tuple[int, int]]) -> list[float]:
    """The shortest of six simulations of each size, one size after the other in each round.

    So a machine that is slower for a minute is so for all sizes.
    """
    plans = [read_plan(demo.large(machines, sites)) for machines, sites in sizes]
    best = [float("inf")] * len(plans)
    for _ in range(6):
        taken = [seconds(partial(simulate, plan, START, END)) for plan in plans]
        best = [min(pair) for pair in zip(best, taken, strict=True)]
    return best


def growth(title: str, sizes: list[tuple[int, int]]) -> list[str]:
    lines = [
        f"| {title} | disks | machine-runs | stretches of one rate | first | again | growth "
        "| peak memory |",
        "|---|---|---|---|---|---|---|---|",
    ]
    before: float | None = None
    for (machines, sites), again in zip(sizes, in_a_process(f"by_turns({sizes})"), strict=True):
        found = in_a_process(f"one_size({machines}, {sites})")
        ratio = "" if before is None else f"{again / before:.2f}"
        before = again
        lines.append(
            f"| {machines:,} machines at {sites} sites | {found['disks']:,} "
            f"| {found['machine_runs']:,} | {found['stretches']:,} "
            f"| {found['first_s']:.1f} s | {again:.2f} s | {ratio} "
            f"| {found['peak_gib']:.2f} GiB |"
        )
    return lines


# --- previews through the API -------------------------------------------------------------------


class Client:
    """A signed-in client of a running application, on one kept connection."""

    def __init__(self, port: int, link: str) -> None:
        self.connection = http.client.HTTPConnection("127.0.0.1", port)
        self.cookie = self.token = ""
        self.token = self.ask("GET", "/api/v1/session")["csrf_token"]
        self.token = self.ask("POST", "/api/v1/session", {"token": link})["csrf_token"]

    def ask(self, method: str, path: str, body: Any = None) -> Any:
        headers = {"Content-Type": "application/json", "X-CSRF-Token": self.token}
        if self.cookie:
            headers["Cookie"] = self.cookie
        self.connection.request(method, path, json.dumps(body) if body else None, headers)
        answer = self.connection.getresponse()
        text = answer.read()
        if answer.status >= 400:
            raise RuntimeError(f"{method} {path}: {answer.status} {text[:500]!r}")
        for name, value in answer.getheaders():
            if name == "Set-Cookie":
                self.cookie = value.partition(";")[0]
        return json.loads(text)


def previews(
    client: Client, plan: int, night: str, scope: str, starts: list[tuple[str, int]], times: int
) -> list[float]:
    """Times of previews of other starts, no two the same: each is simulated."""
    taken = []
    for i in range(times):
        job, schedule = starts[i % len(starts)]
        start_time = f"{19 + i // 60 % 4}:{i % 60:02}"
        body = {
            "operations": [
                {
                    "operation": "MoveStart",
                    "job": job,
                    "schedule": schedule,
                    "start_time": start_time,
                }
            ],
            "night": night,
            "scope": scope,
        }
        begin = time.perf_counter()
        client.ask("POST", f"/api/v1/plans/{plan}/preview", body)
        taken.append(time.perf_counter() - begin)
    return sorted(taken)


def _told(estate: str, name: str, taken: list[float]) -> str:
    median, late = taken[len(taken) // 2], taken[int(len(taken) * 0.95)]
    return f"| {estate} | {name} | {median * 1000:.0f} ms | {late * 1000:.0f} ms |"


def typed(client: Client, ident: int, night: str, scope: str, jobs: Sequence[str]) -> list[float]:
    """What is typed into clauses of jobs, one value after the other, as an editor asks for it."""
    changes = [
        (job, change)
        for job in jobs
        for change in (
            *({"quiesce_s": n} for n in (1, 12, 120)),
            *({"priority": n} for n in (1, 3, 5)),
            *({"retention": {"points": n}} for n in (1, 14, 140)),
            {"verify": "checksum"},
            {"window": None},
            {"max_streams": 4},
        )
    ]
    taken = []
    for job, change in changes:
        operation = {"operation": "ChangeItem", "list": "jobs", "id": job, "changes": change}
        body = {"night": night, "operations": [operation], "scope": scope}
        taken.append(seconds(partial(client.ask, "POST", f"/api/v1/plans/{ident}/preview", body)))
    return sorted(taken)


def five_hundred_jobs() -> dict[str, Any]:
    """The sample with each job twenty times more, on hold."""
    plan = sample()
    plan["jobs"] = [
        {**job, "id": f"{job['id']}-{n}" if n else job["id"], "on_hold": n > 0}
        for n in range(JOBS_TIMES)
        for job in plan["jobs"]
    ]
    return plan


def _rows_of(client: Client, name: str, ident: int, plan: Plan, times: int) -> list[str]:
    """Previews of one estate."""
    # An estate without restore points begins today.
    today = date(2026, 11, 2) if plan.state.points else date.today()
    night = (today + timedelta(days=(4 - today.weekday()) % 7)).isoformat()
    client.ask("GET", f"/api/v1/plans/{ident}/weeks/{night}")
    schedules = [(job.id, i, each) for job in plan.jobs for i, each in enumerate(job.schedules)]
    fulls = [
        (job, i)
        for job, i, schedule in schedules
        if schedule.kind == "full" and "BYDAY=FR" in getattr(schedule, "rrule", "")
    ]
    dailies = [
        (job, i)
        for job, i, schedule in schedules
        if schedule.kind == "incremental" and isinstance(schedule, RuleSchedule)
    ]
    known = [job for job in TYPED_INTO if job in plan.job_by_id]
    jobs = known or [plan.jobs[0].id]
    return [
        *(
            _told(name, what, previews(client, ident, night, scope, starts, times))
            for what, scope, starts in (
                ("a Friday full moves: its night", "night", fulls),
                ("a Friday full moves: the week", "week", fulls),
                ("a daily incremental moves: the whole week", "week", dailies),
            )
            if starts
        ),
        *(
            _told(
                name,
                f"something is typed in a clause of a job: {what}",
                typed(client, ident, night, scope, jobs),
            )
            for what, scope in (("the first night that changes", "first"), ("the week", "week"))
        ),
    ]


def through_the_api() -> list[str]:
    instance = Instance(Path(tempfile.mkdtemp()))
    estates = {"sample": (sample(), PREVIEWS), "large": (large(), max(3, PREVIEWS // 5))}
    plans = {name: read_plan(raw) for name, (raw, _) in estates.items()}
    try:
        url = instance.start()
        maker = prepared(url)
        with maker.begin() as db:
            for name, plan in plans.items():
                store_plan(db, name, plan, actor="bench")
            store_plan(db, "many", read_plan(five_hundred_jobs()), actor="bench")
        with maker.begin() as db:
            link = new_link(db, "bench")
        port = free_port()
        application = Application(url, port)
        try:
            application.wait_until_ready()
            client = Client(port, link)
            idents = {plan["name"]: plan["id"] for plan in client.ask("GET", "/api/v1/plans")}
            lines = [
                "| estate | preview through the API, at the client | median | 95th percentile |",
                "|---|---|---|---|",
            ]
            for name, plan in plans.items():
                lines += _rows_of(client, name, idents[name], plan, estates[name][1])
            address = f"/api/v1/plans/{idents['many']}/jobs"
            client.ask("GET", address)
            listed = sorted(seconds(lambda: client.ask("GET", address)) for _ in range(PREVIEWS))
            lines.append(_told("504 jobs", "the list of jobs", listed))
            held = {key: memory_mib(application.process.pid, key) for key in ("VmRSS", "VmHWM")}
            lines += [
                "",
                f"After them the server holds {held['VmRSS']:,.0f} MiB; at most it held "
                f"{held['VmHWM']:,.0f} MiB.",
            ]
            return lines
        finally:
            application.stop()
    finally:
        instance.stop()


# --- the estate -----------------------------------------------------------------------------------


def found_inventory(plan: Plan) -> Inventory:
    """All machines of a plan as one source would name them."""
    return Inventory(
        "bench",
        plan.sites[0].id,
        tuple(FoundHost(h.id, h.id, h.cluster) for h in plan.hosts),
        tuple(FoundDatastore(d.id, d.id, d.hosts) for d in plan.datastores),
        tuple(
            FoundMachine(
                m.id, m.id, m.kind,
                tuple(
                    FoundDisk(d.id, d.provisioned_gib, d.used_gib, d.swap_gib, d.datastore)
                    for d in m.disks
                ),
                m.host, m.folder,
            )
            for m in plan.machines
        ),
    )  # fmt: skip


def reconcile(url: str) -> dict[str, float]:
    """Times of a discovery of 10,000 machines that a plan does not have yet, in the store."""
    maker = sessions(connect(url))
    full = read_plan(large())
    found = found_inventory(full)
    empty = replace(full, hosts=(), datastores=(), proxies=(), machines=(), jobs=())
    with maker.begin() as db:
        plan_id = store_plan(db, "estate", empty, actor="bench").id
        fields = {"name": "bench", "kind": "manager", "make": "A", "address": "-"}
        fields["site"] = full.sites[0].id
        source = sources.add_source(
            db, plan_id, fields, [], Sealer(Sealer.new_key()), actor="bench"
        )
    begin = time.perf_counter()
    with maker.begin() as db:
        version = inbox.lock_plan(db, plan_id)
        told = differences(version_plan(db, version), found)
        ids = inbox.note_differences(db, source.id, plan_id, told)
    noted = time.perf_counter()
    with maker.begin() as db:
        acceptances.accept_differences(
            db,
            plan_id,
            ids,
            lambda v: version_plan(db, v),
            lambda _plan: date(2026, 11, 2),
            actor="bench",
        )
    taken = time.perf_counter()
    with maker.begin() as db:
        version = inbox.lock_plan(db, plan_id)
        again = differences(version_plan(db, version), found)
    return {
        "noted_s": noted - begin,
        "taken_s": taken - noted,
        "again_s": time.perf_counter() - taken,
        "left": len(again),
        "peak_gib": peak_gib(),
    }


def the_estate() -> list[str]:
    instance = Instance(Path(tempfile.mkdtemp()))
    try:
        url = instance.start()
        maker = prepared(url)
        code = f"import measure, json; print(json.dumps(measure.reconcile({url!r})))"
        done = subprocess.run(
            [sys.executable, "-c", code], capture_output=True, text=True, check=True,
            cwd=Path(__file__).parent,
        )  # fmt: skip
        found = json.loads(done.stdout)
        with maker.begin() as db:
            store_plan(db, "large", read_plan(large()), actor="bench")
            link = new_link(db, "bench")
        port = free_port()
        application = Application(url, port)
        try:
            application.wait_until_ready()
            client = Client(port, link)
            plans = client.ask("GET", "/api/v1/plans")
            ident = next(plan["id"] for plan in plans if plan["name"] == "large")
            first = seconds(lambda: client.ask("GET", f"/api/v1/plans/{ident}/estate"))
            pages = [
                seconds(partial(client.ask, "GET", f"/api/v1/plans/{ident}/estate?{q}"), REPEATED)
                for q in ("limit=100", "limit=100&sort=used", "limit=100&group=host&search=s3")
            ]
        finally:
            application.stop()
        total = found["noted_s"] + found["taken_s"]
        return [
            "| 10,000 machines with 26,000 disks | time |",
            "|---|---|",
            f"| found and written to the inbox | {found['noted_s']:.1f} s |",
            f"| all taken into the plan | {found['taken_s']:.1f} s |",
            f"| both | {total:.1f} s |",
            f"| compared again, {found['left']} differences left | {found['again_s']:.1f} s |",
            f"| peak memory of the process | {found['peak_gib']:.2f} GiB |",
            f"| first page of the table, the plan not in memory yet | {first:.1f} s |",
            f"| first page, at the client, median | {pages[0] * 1000:.0f} ms |",
            f"| sorted by size | {pages[1] * 1000:.0f} ms |",
            f"| filtered and grouped by host | {pages[2] * 1000:.0f} ms |",
        ]
    finally:
        instance.stop()


# --- the page -----------------------------------------------------------------------------------

ABOUT = """\
# Benchmarks

Written by `./gambrel bench`; `./gambrel bench "A better week"` measures one section anew. The
figures of a section come from one run on one machine; the ratios are what counts. The machines it
runs on are noisy, so no test asserts a time.
"""


def growths() -> list[str]:
    return [
        "More sites of the same shape:",
        "",
        *growth("machines", GROWTHS[0]),
        "",
        "Larger sites, where more streams share each repository:",
        "",
        *growth("machines", GROWTHS[1]),
    ]


SECTIONS: dict[str, Callable[[], list[str]]] = {
    "The engine, the reference, a simulation library": lambda: engines(read_plan(sample())),
    "Previews": through_the_api,
    "A better week": better_weeks,
    "The best week there is": exact_weeks,
    "The longest exact case": longest_week,
    "A sweep of losses": sweeps,
    "A night under way": a_night_under_way,
    "The day of the loss": day_of_the_loss,
    "Months ahead": months_ahead,
    "What the ledger teaches": lambda: learning(WORLDS),
    "The screens": screens,
    "The estate": the_estate,
    "The ledger": lambda: the_ledger(LEDGER_ROWS),
    "Growth": growths,
}


def sections_of(page: str) -> dict[str, str]:
    """The sections that a page has, by heading."""
    found = re.split(r"^## (.*)$", page, flags=re.MULTILINE)
    return dict(zip(found[1::2], (body.strip() for body in found[2::2]), strict=True))


def main() -> None:
    """Measure the sections that are named, or all; the others stay as they were measured before.

    With `--tiny` all is as small as can be, and the page stays as it is.
    """
    named = [name for name in sys.argv[1:] if name != "--tiny"]
    if "--tiny" in sys.argv and not TINY:
        # Sizes are chosen where they are imported.
        os.execve(sys.executable, [sys.executable, *sys.argv], {**os.environ, VARIABLE: "1"})
    wanted = named or list(SECTIONS)
    for name in wanted:
        if name not in SECTIONS:
            sys.exit(f"There is no section {name!r}; there are: {', '.join(SECTIONS)}.")
    known = sections_of(PAGE.read_text()) if PAGE.exists() else {}
    for name in wanted:
        known[name] = "\n".join(SECTIONS[name]())
        print(f"## {name}\n\n{known[name]}\n", flush=True)
        if TINY:
            continue
        parts = [ABOUT, "\n".join(f"- {fact}" for fact in facts())]
        parts += [f"## {each}\n\n{known[each]}" for each in SECTIONS if each in known]
        parts.append(WHERE_TIME_GOES)
        PAGE.write_text("\n\n".join(part.strip() for part in parts) + "\n")


WHERE_TIME_GOES = """\
## Where the time goes

The first engine was plain Python with streams kept in classes: a week of `larkmoor` took 1.3 to
2.5 s, most of it in sharing rates (about 5,500 times in that week) and in walks of the queue.
Compiled, half of a simulation is the kernel; in it sharing rates comes first, then the queue. What
keeps them small:

- A resource that its streams cannot fill even at their ceilings binds nobody. A change is shared
  out only among the streams that are tied to it through resources that may bind: six on average in
  `larkmoor`, 38 in an estate of 10,000 machines.
- Tasks that need the same slots wait in one class, parked at the pool that was full, or at the set
  of proxies of which any would do. A slot given back looks only at the classes parked there, and
  passes over those whose next task comes after the best so far.
- What may start at an instant stands in a heap, and a start looks again at the first of it only, as
  starting can but delay the others. Before, each start looked again at all of them: thousands when
  a night begins at twelve sites, by which a doubling of the machines took up to 2.7 times as long.
- What moves stands together in a table of its own, with what it uses; a simulation of 10,000
  machines has 400,000 transfers and moves a few hundred of them at a time. Before, each look at
  one was a look into memory far from the last.
- Disks of a job that are read in the same ways share their candidates. In that estate these are
  4,260 rows; a row for each host, datastore and proxy made 47,926.
- The compiled code does not count who holds its arrays; to count it took a third of the time.
  Its innermost loops index without a sign: asking each time whether a place counts from the end of
  an array took a seventh.

Streams in classes (same resources, same weight) were measured and not taken up again: in that
estate 210,000 streams fall into 57,000 classes, and of the 38 that a change reaches hardly two are
alike, as disks differ in compression and in the host, datastore and proxy they are read through.

The rest is making the arrays of the horizon and the runs of the result. The layout of a plan (its
candidates, classes, uses) is kept from one simulation to the next, job by job: a moved start pays
for none of it ("first" in the tables of growth has it, "again" has not), an edited job for its own.
What does not depend on jobs, such as which proxies reach which datastore, comes along from the plan
that was edited.
A record of which there are hundreds in an answer is a plain tuple with names: to make a frozen
object of fourteen fields takes ten times as long.

A preview through the API is a simulation from the last quiet instant before the change, the loads
of the nights after it, two nights side by side, each in one compiled sweep over what flowed and one
over slots, and the totals of runs out of the arrays. What took as long again before: a second pass
of every value through its schema, records copied by an index instead of `take` or in compiled code,
machine-runs made only to be added up, JSON written in Python, and the garbage collector, which
walked through all kept forecasts (it is now told to leave alone what is there after the start). The
second core is often not there on such machines; so the passes are short rather than many. In the
large estate the loads of a night took three times as long while what flowed was copied into tables
and put in order first, and while a disk that waits was a record for each proxy that it might get.

With larger sites the growth is worse than linear, and so is what there is to tell: all streams of a
site share one repository, so each end changes the rates of more of them, and a stretch of one rate
is a row of the result ("stretches of one rate" grows by 2.9 and 3.7 where machines double).
"""


if __name__ == "__main__":
    main()
