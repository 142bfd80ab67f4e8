"""The morning report and notices of jobs as mails: the same words in text and in HTML."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from jinja2 import Environment, PackageLoader

from gambrel.core import words
from gambrel.core.ledger.records import RunRecord
from gambrel.core.ledger.report import LEFT_BEHIND, MOST_LINES, Broken, Report, headline
from gambrel.core.plan.objects import Plan


@dataclass(frozen=True, slots=True)
class Mail:
    """A mail without its receivers."""

    subject: str
    text: str
    html: str


_text = Environment(
    loader=PackageLoader("gambrel.formats", "mails"),
    trim_blocks=True,
    lstrip_blocks=True,
    autoescape=False,  # noqa: S701 - plain text
)
_html = Environment(loader=PackageLoader("gambrel.formats", "mails"), autoescape=True)


def report_mail(report: Report, plan_name: str) -> Mail:
    """The morning report as a mail."""
    said = _report_words(report, plan_name)
    open_ = sum(1 + len(need.also) for need in report.needs_hand)
    hand = f", {words.count(open_, 'machine')} to look at" if open_ else ""
    subject = f"{plan_name}: {said['title']}: {report.summary.verdict}{hand}"
    return Mail(
        subject,
        _text.get_template("report.txt.j2").render(said),
        _html.get_template("report.html.j2").render(said),
    )


def _report_words(report: Report, plan_name: str) -> dict[str, Any]:
    summary, zone = report.summary, report.summary.night.zone
    names = {job.job: job.name for job in report.jobs}
    bad = [job for job in report.jobs if job.outcome != "done"]
    done = len(report.jobs) - len(bad)
    return {
        "title": words.night_title(summary.night.date),
        "plan": plan_name,
        "at": f"{words.moment(report.at, zone)} ({zone})",
        "verdict": summary.verdict,
        "over": summary.verdict == "over",
        "headline": headline(report.summary),
        "silent": None if report.silent_since is None else words.moment(report.silent_since, zone),
        "needs": [
            {
                "machine": need.machine,
                "exposure": _exposure(need.exposure_s, need.rpo_s),
                "also": f"; and {words.count(len(need.also), 'more machine')}" if need.also else "",
                "why": need.why,
                "advice": need.advice,
            }
            for need in report.needs_hand[:MOST_LINES]
        ],
        "left": [
            f"{over.machine} {LEFT_BEHIND.get(over.what, over.what)}, "
            f"since {words.moment(over.since, zone)}"
            for over in report.left
        ],
        "differences": [
            f"{names.get(d.job, d.job)} ended {words.moment(d.ended, zone)}, "
            f"{words.duration(abs(d.late_s))} {'later' if d.late_s > 0 else 'earlier'}. {d.why}"
            for d in summary.differences[:MOST_LINES]
            if d.ended is not None
        ],
        "taught": list(report.taught),
        "standing": [f"{s.what} {s.why}" for s in report.standing[:MOST_LINES]],
        "runs_done": f"{words.count(done, 'run')} done in full.",
        "runs": [
            f"{job.name}: {job.outcome}, {job.done} of {words.count(job.total, 'machine')} done"
            for job in bad[:MOST_LINES]
        ],
        "tests": [
            f"{words.moment(starts, zone)} {machine}"
            for machine, starts in report.ahead.tests[:MOST_LINES]
        ],
        "tonight": _tonight(report, zone),
        "broken": [broken_in_words(broken) for broken in report.ahead.broken],
    }


def broken_in_words(broken: Broken) -> str:
    """Promises of a tier that the coming night would break."""
    said = [
        f"{words.count(many, 'machine')} would {what}"
        for many, what in (
            (broken.rpo, "lose more work than promised (RPO)"),
            (broken.rto, "be back later than promised (RTO)"),
        )
        if many
    ]
    return f"{broken.tier}: {'; '.join(said)}."


def _exposure(exposure: float | None, rpo: float | None) -> str:
    said = (
        "no restore point" if exposure is None else f"newest point {words.duration(exposure)} old"
    )
    return said if rpo is None else f"{said}, RPO {words.duration(rpo)}"


def _tonight(report: Report, zone: str) -> str:
    tonight = report.tonight
    if tonight is None:
        return "There is no forecast of it."
    said: str = tonight.verdict
    if tonight.last_end is not None:
        said += f", the last run is predicted to end {words.moment(tonight.last_end, zone)}"
    if tonight.over_s > 0:
        said += f", {words.duration(tonight.over_s)} past a window"
    if tonight.missed:
        said += f", {words.count(tonight.missed, 'machine')} would not be backed up"
    return said + "."


def notice_mail(plan: Plan, run: RunRecord, zone: str) -> Mail:
    """A notice that a run of a job has ended, and how."""
    job = plan.job_by_id[run.job]
    machines = list(run.machines.values())
    done = sum(machine.outcome == "done" for machine in machines)
    bad = [m for m in machines if m.outcome != "done"]
    ended = "" if run.ended is None else f", ended {words.moment(run.ended, zone)}"
    first = (
        f"{job.name}: {run.outcome}, {done} of {words.count(len(machines), 'machine')} done{ended}."
    )
    lines = [f"- {m.machine}: {m.outcome or 'not reported'}" for m in bad[:MOST_LINES]]
    for i, machine in enumerate(bad[:MOST_LINES]):
        if machine.reason:
            lines[i] += f", {machine.reason}"
    more = len(bad) - MOST_LINES
    text = "\n".join([first, *lines, *([f"and {more} more"] if more > 0 else [])])
    escaped = _html.from_string("<p>{{ first }}</p><ul>{% for l in lines %}<li>{{ l[2:] }}</li>"
                                "{% endfor %}</ul>")  # fmt: skip
    return Mail(f"{job.name}: {run.outcome}", text + "\n", escaped.render(first=first, lines=lines))


def silence_mail(runner: str, since: float, open_runs: int, zone: str) -> Mail:
    """A mail that a runner has fallen silent. `since`: its last word, in UTC seconds."""
    said = (
        f"Nothing was heard of the runner {runner} since {words.moment(since, zone)} ({zone}), and "
        f"{words.count(open_runs, 'run')} had begun and not ended by then. Look whether it runs."
    )
    escaped = _html.from_string("<p>{{ said }}</p>")
    return Mail(f"the runner {runner} is silent", said + "\n", escaped.render(said=said))
