"""Mail goes out in the background: the morning report, notices of jobs, a test.

What is to be sent is written down first, in the transaction of what it tells of. A mail server that
is down delays it and is tried again; nothing waits for it.
"""

from __future__ import annotations

import logging
import smtplib
import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from email.message import EmailMessage
from threading import Event, Thread
from zoneinfo import ZoneInfo

from sqlalchemy.orm import Session

from gambrel.core.ledger.records import RunRecord
from gambrel.core.nights.nights import night_at, night_of, planner_zone
from gambrel.core.plan.objects import Plan
from gambrel.core.schedules.calendars import instant_of
from gambrel.formats.report_mail import notice_mail, report_mail, silence_mail
from gambrel.store import ledger, mails
from gambrel.store.ledger_models import in_us
from gambrel.store.plans import PlanHead, plan_heads
from gambrel.store.sealing import Sealer
from gambrel.store.settings import setting
from gambrel.work.runs import Runs

log = logging.getLogger(__name__)

LOOKED_AT_EVERY_S = 5.0
CONNECT_WITHIN_S = 10.0
DEFAULT_REPORT_AT = "07:30"


@dataclass(frozen=True, slots=True)
class MailServer:
    """Where mail goes out. `password` is empty where the server asks for none."""

    host: str
    port: int
    sender: str
    user: str = ""
    password: str = ""
    starttls: bool = False


Send = Callable[[MailServer, EmailMessage], None]


def send(server: MailServer, message: EmailMessage) -> None:
    """Hand a message to a mail server. Raises OSError or SMTPException."""
    with smtplib.SMTP(server.host, server.port, timeout=CONNECT_WITHIN_S) as smtp:
        if server.starttls:
            smtp.starttls()
        if server.user:
            smtp.login(server.user, server.password)
        smtp.send_message(message)


@dataclass(frozen=True, slots=True)
class RunSettings:
    """What a plan's runs are told about to whom.

    Attributes:
        report_at: local time of the planner's zone, "HH:MM".
        addresses: mail addresses by the names that jobs notify.
    """

    report_at: str = DEFAULT_REPORT_AT
    report_to: tuple[str, ...] = ()
    addresses: tuple[tuple[str, str], ...] = ()


def run_settings_name(plan_id: int) -> str:
    """The name under which a plan's settings are kept."""
    return f"plan {plan_id} runs"


class Mailing:
    """Writes reports and notices when they are due, and sends what waits."""

    def __init__(self, runs: Runs, sealer: Sealer, send_one: Send = send) -> None:
        self.runs = runs
        self.planning = runs.planning
        self.sealer = sealer
        self._send = send_one
        self._stopped = Event()

    # --- settings -----------------------------------------------------------------------------

    def server(self) -> MailServer | None:
        """The mail server that is set; None where there is none."""
        with self.planning.sessions() as db:
            value = setting(db, "mail")
        if not value.get("host"):
            return None
        sealed = value.get("sealed_password", "")
        return MailServer(
            value["host"],
            int(value["port"]),
            value["sender"],
            value.get("user", ""),
            self.sealer.open(sealed) if sealed else "",
            bool(value.get("starttls")),
        )

    def settings(self, plan_id: int) -> RunSettings:
        """To whom a plan's runs are told."""
        with self.planning.sessions() as db:
            value = setting(db, run_settings_name(plan_id))
        return RunSettings(
            value.get("report_at", DEFAULT_REPORT_AT),
            tuple(value.get("report_to", ())),
            tuple((name, to) for name, to in value.get("addresses", {}).items()),
        )

    # --- what is due --------------------------------------------------------------------------

    def look(self) -> None:
        """Write the reports that are due, and send what waits."""
        with self.planning.sessions() as db:
            heads = plan_heads(db)
        for head in heads:
            try:
                self.report_if_due(head)
                self.tell_of_silence(head)
            except Exception:
                log.exception("the report of plan %s", head.name)
        self.send_waiting()

    def report_if_due(self, head: PlanHead) -> None:
        """Write the morning report of the night before, once, when its time has come."""
        settings = self.settings(head.id)
        if not settings.report_to:
            return
        clock, runner = self.runs.clock(head.id)
        if runner is None:
            return
        plan = self.planning.plan(head.adopted_version)
        night = report_night(planner_zone(plan), clock, settings.report_at)
        with self.planning.sessions() as db:
            row = ledger.night_row(db, head.id, night)
            if row is None or row.mailed_at is not None:
                return
        mail = report_mail(self.runs.report(head.id, night), head.name)

        def write(db: Session) -> None:
            mails.queue_mail(
                db, f"report {head.id} {night}", settings.report_to, mail.subject, mail.text,
                mail.html,
            )  # fmt: skip
            ledger.note_mailed(db, head.id, night)

        self.planning.write(write)

    def tell_of_silence(self, head: PlanHead) -> None:
        """Write, once, that a runner has fallen silent while runs are under way."""
        settings = self.settings(head.id)
        _, runner = self.runs.clock(head.id)
        if not settings.report_to or runner is None:
            return
        with self.planning.sessions() as db:
            open_runs = ledger.open_runs(db, head.id)
        since = self.runs.silent_since(runner, open_runs)
        if since is None:
            return
        plan = self.planning.plan(head.adopted_version)
        mail = silence_mail(runner.name, since, open_runs, planner_zone(plan))
        key = f"silent {runner.id} {since:.0f}"
        self.planning.write(
            lambda db: mails.queue_mail(
                db, key, settings.report_to, f"{head.name}: {mail.subject}", mail.text, mail.html
            )
        )

    def notices(self, plan_id: int, plan: Plan, ended: Iterable[RunRecord]) -> None:
        """Write the notices that jobs ask for of runs that have ended."""
        chosen = [run for run in ended if _is_told(plan, run)]
        if not chosen:
            return
        addresses = dict(self.settings(plan_id).addresses)
        zone = planner_zone(plan)
        for run in chosen:
            names = plan.job_by_id[run.job].notify_to
            to = [addresses.get(name, name) for name in names]
            to = [address for address in to if "@" in address]
            if not to:
                continue
            mail = notice_mail(plan, run, zone)
            key = f"notice {plan_id} {run.job[:100]} {in_us(run.occurrence)}"
            self.planning.write(
                lambda db, key=key, to=to, mail=mail: mails.queue_mail(  # type: ignore[misc]
                    db, key, to, mail.subject, mail.text, mail.html
                )
            )

    def test(self, to: str) -> None:
        """Queue a test mail."""
        key = f"test {time.time_ns()}"
        text = "This is a test mail. Mail settings work."
        self.planning.write(
            lambda db: mails.queue_mail(db, key, [to], "Test mail", text, f"<p>{text}</p>")
        )

    def send_waiting(self) -> None:
        """Send the mails that wait and whose time has come; one that fails is tried again."""
        with self.planning.sessions() as db:
            waiting = mails.due_mails(db)
        if not waiting:
            return
        server = self.server()
        for mail in waiting:
            if server is None:
                self._failed(mail.id, "no mail server is set")
                continue
            try:
                self._send(server, _message(server.sender, mail))
            except (OSError, smtplib.SMTPException, ValueError) as error:
                self._failed(mail.id, f"{error}")
            else:
                self.planning.write(lambda db, ident=mail.id: mails.note_sent(db, ident))  # type: ignore[misc]

    def _failed(self, mail_id: int, error: str) -> None:
        self.planning.write(lambda db: mails.note_failed(db, mail_id, error))

    def watch(self) -> Thread:
        """Look again and again, in the background."""

        def again() -> None:
            while not self._stopped.wait(LOOKED_AT_EVERY_S):
                try:
                    self.look()
                except Exception:
                    log.exception("mail")

        thread = Thread(target=again, name="mail", daemon=True)
        thread.start()
        return thread

    def stop(self) -> None:
        """End the watch."""
        self._stopped.set()


def report_night(zone: str, clock: float, report_at: str) -> date:
    """The night whose report is the newest that is due at an instant."""
    place = ZoneInfo(zone)
    hours, minutes = (int(part) for part in report_at.split(":"))
    night = night_at(clock, zone)
    day = night.date
    # The report of a night falls on the day after it begins.
    for back in range(3):
        candidate = day - timedelta(days=back)
        morning = datetime(candidate.year, candidate.month, candidate.day) + timedelta(
            days=1, hours=hours, minutes=minutes
        )
        if instant_of(morning, place) <= clock:
            return night_of(candidate, zone).date
    return day - timedelta(days=3)


def _is_told(plan: Plan, run: RunRecord) -> bool:
    job = plan.job_by_id.get(run.job)
    if job is None or not job.notify_to or run.ended is None:
        return False
    return job.notify == "always" or (job.notify == "trouble" and run.outcome != "done")


def _message(sender: str, mail: mails.StoredMail) -> EmailMessage:
    message = EmailMessage()
    message["Subject"] = " ".join(mail.subject.split())
    message["From"] = sender
    message["To"] = ", ".join(_one_line(mail.to))
    message.set_content(mail.text)
    message.add_alternative(mail.html, subtype="html")
    return message


def _one_line(values: Sequence[str]) -> list[str]:
    return [" ".join(value.split()) for value in values]
