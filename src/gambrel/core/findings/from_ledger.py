"""Findings that need the ledger: what has really gone wrong for days, whatever the plan says."""

from __future__ import annotations

from collections.abc import Iterable

from gambrel.core.findings.model import Finding, Gravity, Subject
from gambrel.core.ledger.standing import Standing, StandingKind

GRAVITY: dict[StandingKind, Gravity] = {
    "no good point": "risks",
    "failed in a row": "breaks",
    "forecast off": "risks",
    "restore tests overdue": "risks",
}


def standing_findings(standing: Iterable[Standing]) -> list[Finding]:
    """Troubles that stand as findings, in the order given.

    The machine comes first among the subjects, then the job. They tell one finding from another
    together, since a machine may fail in two jobs.
    """
    found = []
    for trouble in standing:
        subjects = []
        if trouble.machine is not None:
            subjects.append(Subject("machine", trouble.machine))
        if trouble.job is not None:
            subjects.append(Subject("job", trouble.job))
        found.append(
            Finding(
                trouble.kind,
                GRAVITY[trouble.kind],
                tuple(subjects),
                trouble.what,
                trouble.why,
                trouble.weight,
                known_by=len(subjects),
            )
        )
    return found
