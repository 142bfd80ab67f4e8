"""Restore tests and checks of points: the rota, its orders, results, what is left mounted."""

from __future__ import annotations

from dataclasses import replace
from datetime import time
from typing import Any

from apiflask import APIBlueprint
from sqlalchemy.orm import Session

from gambrel.api import restore_tests_schemas as schemas
from gambrel.api.plans import looked_at
from gambrel.api.problems import ProblemError, field_error, instant_of
from gambrel.api.runner import runs
from gambrel.api.runs import needs_runner
from gambrel.api.sessions import actor, planning
from gambrel.core.loads.lanes import NO_TIER, TIERS, tier_of
from gambrel.core.plan.instants import format_instant
from gambrel.core.plan.objects import WEEKDAYS, ExistingPoint, Plan
from gambrel.core.recovery.restore_tests import Layout, PlannedTest, Rota, TestRule
from gambrel.core.simulation.known_points import place_of_point
from gambrel.store import ledger, point_checks, runners
from gambrel.store.point_checks import PointCheck
from gambrel.work.forecaster import Forecaster
from gambrel.work.restore_tests import layout, rota_of, save_rota

blueprint = APIBlueprint(
    "restore_tests", __name__, tag="Recovery", url_prefix="/api/v1/plans/<int:plan_id>"
)

MOST_CHECKS = 300
"""Results that are shown, the newest first."""


def _refused(title: str, field: str, value: Any, reason: str) -> ProblemError:
    return ProblemError(
        422, title, "Nothing was written.", errors=[field_error(field, value, reason)]
    )


# --- the rota -----------------------------------------------------------------------------------


@blueprint.get("/restore-tests")
@blueprint.output(schemas.RestoreTestsSchema)
def show_restore_tests(plan_id: int) -> dict[str, Any]:
    """The rota of restore tests: what it lays out, what is overdue, mounted, and was found."""
    return _shown(plan_id)


def _laid_out(
    plan_id: int, forecaster: Forecaster, now: float
) -> tuple[Rota | None, Layout | None]:
    """The rota of a plan with what it lays out; neither without one."""
    rota = rota_of(planning(), plan_id)
    if rota is None:
        return None, None
    return rota, layout(planning(), plan_id, forecaster, rota, now)


def _open_tests(db: Session, plan_id: int) -> list[runners.Order]:
    """Tests that are ordered and have not ended."""
    return [
        order
        for order in runners.recent_orders(db, plan_id, 500)
        if order.kind == "test" and order.state in runners.OPEN_STATES
    ]


def _shown(plan_id: int) -> dict[str, Any]:
    _, _, forecaster = looked_at(plan_id, None)
    now, runner = runs().clock(plan_id)
    rota, made = _laid_out(plan_id, forecaster, now)
    with planning().sessions() as db:
        checks = point_checks.checks_of(db, plan_id, source="test", most=MOST_CHECKS)
        left = ledger.left_overs(db, plan_id)
        orders = _open_tests(db, plan_id)
    plan = forecaster.plan
    return {
        "now": format_instant(now),
        "time_zone": forecaster.origin.zone,
        "has_runner": runner is not None,
        "tiers": [t for t in (*TIERS, NO_TIER) if any(tier_of(m) == t for m in plan.machines)],
        "hosts": [host.id for host in plan.hosts],
        "rota": None if rota is None else _rota_body(rota),
        "days": [] if made is None else _days(plan, made),
        "overdue": [] if made is None else list(made.overdue),
        "left_out": []
        if made is None
        else [{**each._asdict(), "due": format_instant(each.due)} for each in made.left_out],
        "ordered": [
            {
                "id": order.id,
                "machine": order.machines[0],
                "words": order.words,
                "state": order.state,
                "starts": format_instant(float(order.detail["starts"])),
            }
            for order in orders
        ],
        "mounted": [
            {
                "machine": each.machine,
                "what": each.what,
                "since": format_instant(each.since),
                "age_s": max(0.0, now - each.since),
            }
            for each in sorted(left, key=lambda each: each.since)
            if each.what == "mount"
        ],
        "record": [check_body(check) for check in checks],
    }


def _rota_body(rota: Rota) -> dict[str, Any]:
    return {
        "rules": [{"tier": rule.tier, "every_days": rule.every_days} for rule in rota.rules],
        "at_once": rota.at_once,
        "opens": rota.opens.strftime("%H:%M"),
        "closes": rota.closes.strftime("%H:%M"),
        "days": [WEEKDAYS[day] for day in rota.weekdays],
        "host": rota.host,
    }


def _days(plan: Plan, made: Layout) -> list[dict[str, Any]]:
    return [
        {
            "date": day,
            "opens": format_instant(span[0]),
            "closes": format_instant(span[1]),
            "free": [
                {"start": format_instant(start), "end": format_instant(end)}
                for start, end in free
            ],
            "tests": [
                _test_body(plan, test)
                for test in made.tests
                if span[0] <= test.starts < span[1]
            ],
        }
        for day, span, free in made.days
    ]  # fmt: skip


def _test_body(plan: Plan, test: PlannedTest) -> dict[str, Any]:
    told = test._asdict()
    for key in ("at", "starts", "ends", "due"):
        told[key] = format_instant(told[key])
    return {**told, "tier": tier_of(plan.machine_by_id[test.machine])}


def check_body(check: PointCheck) -> dict[str, Any]:
    """A check as JSON values."""
    return {
        "job": check.job,
        "machine": check.machine,
        "repository": check.repository,
        "at": format_instant(check.at),
        "source": check.source,
        "good": check.good,
        "checked_at": format_instant(check.checked_at),
        "predicted_s": check.predicted_s,
        "took_s": None if check.began is None else check.checked_at - check.began,
        "note": check.note,
        "actor": check.actor,
    }


@blueprint.put("/restore-tests/rota")
@blueprint.input(schemas.RotaSchema)
@blueprint.output(schemas.RestoreTestsSchema)
def set_rota(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Set who is tested how often, and in which hours."""
    _, _, forecaster = looked_at(plan_id, None)
    title = "This rota cannot be kept"
    opens, closes = (time.fromisoformat(json_data[key]) for key in ("opens", "closes"))
    if closes <= opens:
        raise _refused(title, "closes", json_data["closes"], "is not after `opens`")
    host = json_data["host"]
    if host is not None and host not in forecaster.plan.host_by_id:
        raise _refused(title, "host", host, "is not a host of this plan")
    tiers = [rule["tier"] for rule in json_data["rules"]]
    for i, tier in enumerate(tiers):
        if tier in tiers[:i]:
            raise _refused(title, f"rules[{i}].tier", tier, "has a rule already")
    now, _ = runs().clock(plan_id)
    known = rota_of(planning(), plan_id)
    rota = Rota(
        begins=now if known is None else known.begins,
        rules=tuple(TestRule(**rule) for rule in json_data["rules"]),
        at_once=json_data["at_once"],
        opens=opens,
        closes=closes,
        weekdays=tuple(sorted({WEEKDAYS.index(day) for day in json_data["days"]})),
        host=host,
    )
    save_rota(planning(), plan_id, rota, actor=actor())
    # What stands overdue is kept until there is news.
    runs().tell(plan_id)
    return _shown(plan_id)


@blueprint.post("/restore-tests/orders")
@blueprint.input(schemas.TestOrdersSchema)
@blueprint.output(schemas.RestoreTestsSchema, status_code=201)
def order_tests(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Order the tests that are laid out for some machines, each for its hour."""
    _, _, forecaster = looked_at(plan_id, None)
    needs_runner(plan_id)
    now, _ = runs().clock(plan_id)
    _, made = _laid_out(plan_id, forecaster, now)
    tests = {test.machine: test for test in (made.tests if made else ())}
    with planning().sessions() as db:
        ordered = {order.machines[0] for order in _open_tests(db, plan_id)}
    title = "These tests cannot be ordered"
    for i, machine in enumerate(json_data["machines"]):
        if machine not in tests:
            raise _refused(title, f"machines[{i}]", machine, "has no test in the coming days")
        if machine in ordered:
            raise _refused(title, f"machines[{i}]", machine, "has a test that is ordered already")
    chosen = [tests[machine] for machine in dict.fromkeys(json_data["machines"])]

    def write(db: Session) -> None:
        for test in chosen:
            runners.add_order(
                db, plan_id, "test", job=test.job, machines=[test.machine],
                detail={
                    "repository": test.repository, "at": test.at, "starts": test.starts,
                    "seconds": test.ends - test.starts, "host": test.host,
                },
                words=f"Test a restore of {test.machine}", effect="", at=now, actor=actor(),
            )  # fmt: skip

    planning().write(write)
    runs().tell(plan_id)
    return _shown(plan_id)


# --- checks -------------------------------------------------------------------------------------


@blueprint.post("/point-checks")
@blueprint.input(schemas.NewCheckSchema)
@blueprint.output(schemas.PointCheckSchema, status_code=201)
def check_point(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Say by hand whether a point that exists is good; forecasts begin with good points only.

    A test of a point that is only forecast counts for the newest that exists in its place.
    """
    _, _, forecaster = looked_at(plan_id, None)
    now, _ = runs().clock(plan_id)
    check = PointCheck(
        json_data["job"], json_data["machine"], json_data["repository"],
        instant_of("at", json_data["at"]), json_data["source"], json_data["good"], now,
        note=json_data["note"].strip(), actor=actor(),
    )  # fmt: skip
    known = existing(plan_id, forecaster, check.machine)
    at = next((each.at for each in known if place_of_point(each) == check.place), None)
    if at is None and check.source == "test":
        place = check.job, check.repository
        at = max((each.at for each in known if (each.job, each.repository) == place), default=None)
    if at is None:
        raise _refused("This point cannot be checked", "at", json_data["at"], "does not exist yet")
    check = replace(check, at=at)
    planning().write(lambda db: point_checks.check_by_hand(db, plan_id, check))
    runs().tell(plan_id)
    return check_body(check)


def existing(plan_id: int, forecaster: Forecaster, machine: str) -> list[ExistingPoint]:
    """The points of a machine that really exist: in the ledger, else in the plan's state."""
    now, _ = runs().clock(plan_id)
    with planning().sessions() as db:
        if ledger.has_points(db, plan_id):
            return ledger.points_at(db, plan_id, now, machines=[machine])
    return [point for point in forecaster.plan.state.points if point.machine == machine]


@blueprint.post("/left-overs/cleaned")
@blueprint.input(schemas.CleanedSchema)
@blueprint.output({}, status_code=204)
def clean_up(plan_id: int, json_data: dict[str, Any]) -> tuple[str, int]:
    """Say that what was left behind on a machine is gone."""
    now, _ = runs().clock(plan_id)
    machine, what = json_data["machine"], json_data["what"]
    done = planning().write(
        lambda db: ledger.cleaned_by_hand(db, plan_id, machine, what, now, actor=actor())
    )
    if not done:
        raise _refused(
            "There is nothing to clean up", "machine", machine, f"has no {what} left behind"
        )
    runs().tell(plan_id)
    return "", 204
