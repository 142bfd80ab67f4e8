"""A first draft of jobs from a timetable of elsewhere, with what the planner said of each line."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date

from gambrel.core.edits.item_edits import AddItem, OperationError
from gambrel.core.plan.objects import Plan
from gambrel.core.questions.new_job import new_job
from gambrel.core.schedules.words import schedule_in_words
from gambrel.core.words import sentence
from gambrel.formats.timetables import Start, Timetable

MOST_SCHEDULES = 50
"""Schedules of one job."""


@dataclass(frozen=True, slots=True)
class Said:
    """What the planner says of a line; None: what is guessed stands."""

    take: bool = True
    job: str | None = None
    kind: str | None = None
    machine: str | None = None


@dataclass(frozen=True, slots=True)
class Entry:
    """A line as it would be taken. `wrong`: why it cannot be; "" where it can."""

    start: Start
    take: bool
    job: str
    kind: str
    machine: str
    words: str
    wrong: str


@dataclass(frozen=True, slots=True)
class DraftedJob:
    """A job that would be new: its name, its sentence and the operation that adds it."""

    name: str
    words: str
    operation: AddItem


def _guessed_machine(names: Sequence[tuple[str, str]], hint: str, default: str) -> str:
    """The machine whose name is in a text, the longest; else the one given.

    Args:
        names: of all machines, and each of them case-folded.
    """
    text = hint.casefold()
    named = [name for name, folded in names if folded in text]
    return max(named, key=len, default=default)


def entries(
    plan: Plan, table: Timetable, said: Mapping[int, Said], default_machine: str
) -> list[Entry]:
    """Every line with what is guessed of it and what the planner says."""
    names = [(machine.id, machine.id.casefold()) for machine in plan.machines]
    found = []
    for start in table.starts:
        mine = said.get(start.line, Said())
        kind = mine.kind or start.schedules[0].kind
        of_kind = start.of_kind(kind)
        machine = mine.machine
        if machine is None:
            machine = _guessed_machine(names, start.hint, default_machine)
        wrong = ""
        if not machine:
            wrong = "no machine is named; choose one"
        elif machine not in plan.machine_by_id:
            wrong = f"{machine} is not a machine of this plan"
        words = ", and ".join(schedule_in_words(schedule) for schedule in of_kind.schedules)
        found.append(Entry(of_kind, mine.take, mine.job or start.name, kind, machine, words, wrong))
    return found


def drafted(plan: Plan, taken: Sequence[Entry], day: date) -> list[DraftedJob]:
    """The jobs of all lines that can be taken; those with one name are one job.

    Raises:
        OperationError: where the plan cannot hold one of them.
    """
    by_name: dict[str, list[Entry]] = {}
    for entry in taken:
        if entry.take and not entry.wrong:
            by_name.setdefault(entry.job.strip(), []).append(entry)
    found = []
    for name, lines in by_name.items():
        machines = list(dict.fromkeys(entry.machine for entry in lines))
        schedules = [schedule for entry in lines for schedule in entry.start.schedules]
        if len(schedules) > MOST_SCHEDULES:
            raise OperationError("job", name, f"would have more than {MOST_SCHEDULES} schedules")
        value = new_job(plan, name, day, machines=machines, schedules=schedules)
        operation = AddItem("jobs", value)
        plan = operation.apply(plan)
        made = plan.job_by_id[value["id"]]
        found.append(DraftedJob(name, sentence(plan, made), operation))
    return found
