"""Mail: written once, sent in the background, delayed and repeated where the server is down."""

import smtplib
import time
from datetime import date, timedelta

import pytest
from plans import small_plan
from runs_told import as_planned

from gambrel.commands.database import free_port
from gambrel.core.nights.nights import night_at, night_of, planner_zone
from gambrel.core.plan.instants import format_instant, parse_instant
from gambrel.formats.report_mail import notice_mail, report_mail
from gambrel.standins.mail_server import MailServer as StandInServer
from gambrel.store import ledger, mails, runners
from gambrel.store.ledger_models import MailRow, RunnerRow
from gambrel.store.models import now_utc
from gambrel.store.plans import locked_plan, store_plan
from gambrel.store.sealing import Sealer
from gambrel.store.settings import set_setting
from gambrel.work.mailing import Mailing, report_night, run_settings_name
from gambrel.work.planning import Planning
from gambrel.work.runs import Runs

ZONE = "Europe/Dublin"
NIGHT = night_of(date(2026, 11, 6), ZONE)
PLAN = small_plan({"notify": "trouble", "notify_to": ["ops", "night@example.org"]})
TOLD = {NIGHT.date: ("quiesce:gate:0:24",)}


@pytest.fixture
def played(maker, request):
    """A plan of which the stand-in has carried a night out in which a machine failed."""
    planning = Planning(maker)
    runs = Runs(planning)
    mailing = Mailing(runs, Sealer(Sealer.new_key()))
    runs.on_ended = mailing.notices
    with maker.begin() as db:
        head = store_plan(db, request.node.name[:80], PLAN, actor="test")
        runners.new_runner(db, head.id, "stand-in", "stand-in", actor="test")
        set_setting(
            db, run_settings_name(head.id),
            {"report_at": "07:30", "report_to": ["me@example.org"],
             "addresses": {"ops": "ops@example.org"}},
            actor="test", told={},
        )  # fmt: skip
        runner = runners.runners(db, head.id)[0]
    performance = as_planned(PLAN, NIGHT.start, TOLD)
    runs.take(runner, [], clock=NIGHT.start)
    at = parse_instant("2026-11-07T07:31:00Z")
    runs.take(runner, performance.advance(at), clock=at)
    return head, runs, mailing


def outbox(maker, head):
    with maker() as db:
        rows = db.query(MailRow).filter(MailRow.key.like(f"% {head.id} %")).all()
        return sorted((row.key.split()[0], tuple(row.to), row.subject, row.text) for row in rows)


def test_the_report_is_written_once_when_its_time_has_come(maker, played):
    head, _, mailing = played
    mailing.report_if_due(head)
    mailing.report_if_due(head)
    reports = [mail for mail in outbox(maker, head) if mail[0] == "report"]
    assert len(reports) == 1
    _, to, subject, text = reports[0]
    assert to == ("me@example.org",)
    assert "The night of Friday 6 November 2026: over, 1 machine to look at" in subject
    assert "gate: no restore point" in text and "it could not be quiesced" in text
    assert "gate still has a snapshot of its backup" in text


def test_jobs_tell_of_trouble_and_only_those_who_have_an_address(maker, played):
    head, _, _ = played
    notices = [mail for mail in outbox(maker, head) if mail[0] == "notice"]
    assert len(notices) == 2
    assert {to for _, to, *_ in notices} == {("ops@example.org", "night@example.org")}
    assert all("incomplete" in subject for _, _, subject, _ in notices)


def test_mail_arrives_as_text_and_html(maker, played):
    head, runs, mailing = played
    with maker.begin() as db:
        db.query(MailRow).delete()
    server = StandInServer(free_port())
    server.start()
    try:
        with maker.begin() as db:
            set_setting(
                db, "mail",
                {"host": "127.0.0.1", "port": server._controller.port, "sender": "g@example.org"},
                actor="test", told={},
            )  # fmt: skip
        mailing.report_if_due(head)
        mailing.send_waiting()
        report = next(m for m in server.taken if "The night of" in m.subject)
        expected = report_mail(runs.report(head.id, NIGHT.date), head.name)
        assert report.text.split() == expected.text.split()
        assert "<h2" in report.html and "gate" in report.html
        server.refuses = True
        mailing.test("me@example.org")
        mailing.send_waiting()
        server.refuses = False
        with maker.begin() as db:
            row = db.query(MailRow).filter(MailRow.subject == "Test mail").one()
            assert (row.state, row.tries) == ("waiting", 1) and "451" in row.error
            row.next_try_at -= timedelta(hours=1)
        mailing.send_waiting()
        assert [m.subject for m in server.taken].count("Test mail") == 1
    finally:
        server.stop()


def test_a_server_that_is_down_delays_and_loses_nothing(maker, played):
    head, runs, _ = played
    sent = []

    def fails(_server, message):
        sent.append(message["Subject"])
        raise smtplib.SMTPConnectError(421, "down")

    mailing = Mailing(runs, Sealer(Sealer.new_key()), fails)
    with maker.begin() as db:
        set_setting(
            db, "mail", {"host": "127.0.0.1", "port": 1, "sender": "g@example.org"},
            actor="test", told={},
        )  # fmt: skip
        db.query(MailRow).delete()
    mailing.test("me@example.org")
    mailing.send_waiting()
    mailing.send_waiting()
    # Not at once again: the second look comes before the pause is over.
    assert sent == ["Test mail"]
    with maker() as db:
        row = db.query(MailRow).one()
        assert row.state == "waiting" and row.next_try_at > row.created_at
    mailing.report_if_due(head)
    assert any(key == "report" for key, *_ in outbox(maker, head))


def test_no_line_break_gets_into_a_header(maker, played):
    _, runs, _ = played
    sent = []
    mailing = Mailing(runs, Sealer(Sealer.new_key()), lambda _, m: sent.append(m))
    with maker.begin() as db:
        db.query(MailRow).delete()
        set_setting(
            db, "mail", {"host": "h", "port": 1, "sender": "g@example.org"}, actor="t", told={}
        )
        mails.queue_mail(db, "k", ["a@example.org"], "one\r\nBcc: x@example.org", "t", "<p>t</p>")
    mailing.send_waiting()
    assert sent[0]["Subject"] == "one Bcc: x@example.org" and sent[0]["Bcc"] is None


@pytest.mark.parametrize(
    ("clock", "night"),
    [
        ("2026-11-07T07:29:00Z", date(2026, 11, 5)),
        ("2026-11-07T07:30:00Z", date(2026, 11, 6)),
        ("2026-11-07T13:00:00Z", date(2026, 11, 6)),
        ("2026-11-08T07:29:00Z", date(2026, 11, 6)),
    ],
)
def test_which_report_is_due(clock, night):
    assert report_night(ZONE, parse_instant(clock), "07:30") == night


def test_a_notice_names_what_failed(maker, played):
    head, _, _ = played
    with maker.begin() as db:
        locked_plan(db, head.id)
        runs = ledger.runs_of_night(db, head.id, NIGHT.date)
    mail = notice_mail(PLAN, runs[0], ZONE)
    assert mail.subject == "Nightly: incomplete"
    assert "1 of 2 machines done" in mail.text and "- gate: failed" in mail.text
    assert "<li>gate: failed" in mail.html


def test_a_runner_that_falls_silent_is_told_once(maker, played):
    head, runs, mailing = played
    with maker.begin() as db:
        db.query(MailRow).delete()
        # It carries the plan out by a real clock, and has begun a run.
        row = db.query(RunnerRow).filter(RunnerRow.plan_id == head.id).one()
        row.kind = "runner"
    runner = runs.clock(head.id)[1]
    began = {"id": "b", "what": "run began", "job": "nightly", "kind": "full"}
    now = time.time()
    # At noon a minute ago was another night.
    at = format_instant(max(now - 60, night_at(now, planner_zone(PLAN)).start))
    runs.take(runner, [{**began, "at": at, "occurrence": at}])
    mailing.tell_of_silence(head)
    assert not outbox(maker, head)
    assert runs.tonight(head.id).silent_since is None
    with maker.begin() as db:
        db.get(RunnerRow, runner.id).last_seen_at = now_utc() - timedelta(minutes=11)
    for _ in range(2):
        mailing.tell_of_silence(head)
    with maker() as db:
        told = [(m.subject, m.text) for m in db.query(MailRow)]
    assert len(told) == 1 and "is silent" in told[0][0] and "1 run had begun" in told[0][1]
    assert runs.tonight(head.id).silent_since is not None
