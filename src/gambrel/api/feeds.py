"""Calendars of coming nights and runs: as a file, and as feeds at secret addresses."""

from __future__ import annotations

import zipfile
from io import BytesIO
from typing import Any

from apiflask import APIBlueprint, EmptySchema, Schema
from apiflask.fields import Integer, List, Nested, String
from apiflask.validators import Length, OneOf, Range
from flask import Blueprint, Response, request

from gambrel.api.answers import file_answer
from gambrel.api.plans import looked_at
from gambrel.api.problems import ProblemError
from gambrel.api.schemas import Instant, nullable, required
from gambrel.api.serialize import utc
from gambrel.api.sessions import actor, base_address, limiter, planning
from gambrel.core.nights.nights import night_outcome, runs_of
from gambrel.formats.calendar_ics import ICALENDAR, CalendarNight, calendar
from gambrel.formats.server_scripts import server_files
from gambrel.store import feeds as store
from gambrel.store.plans import plan_head, version_made_at

blueprint = APIBlueprint("feeds", __name__, tag="Feeds", url_prefix="/api/v1/plans/<int:plan_id>")
addresses = Blueprint("feed_addresses", __name__)

USUAL_NIGHTS, MOST_NIGHTS = 14, 35
READS = "60 per minute"


class CalendarQuerySchema(Schema):
    what = String(load_default="nights", validate=OneOf(store.WHAT))
    nights = Integer(load_default=USUAL_NIGHTS, validate=Range(1, MOST_NIGHTS))


class FeedSchema(Schema):
    id = required(Integer)
    name = required(String)
    what = required(String)
    made_by = required(String)
    created_at = required(Instant)
    used_at = nullable(Instant)


class FeedsSchema(Schema):
    feeds = required(List, Nested(FeedSchema))


class NewFeedSchema(Schema):
    name = required(String, validate=Length(1, 100))
    what = String(load_default="nights", validate=OneOf(store.WHAT))


class MadeFeedSchema(Schema):
    """`address`: shown once, and not kept."""

    feed = required(Nested, FeedSchema)
    address = required(String)


def _calendar(plan_id: int, what: str, nights: int) -> bytes:
    head, _, forecaster = looked_at(plan_id, None)
    plan, origin = forecaster.plan, forecaster.origin
    told = []
    for night in forecaster.coming_nights(planning().today(plan), nights):
        forecast = forecaster.night(night)
        runs = tuple(runs_of(forecast, night)) if what == "nights and runs" else ()
        told.append(CalendarNight(night_outcome(forecast, night), runs))
    with planning().sessions() as db:
        made_at = version_made_at(db, head.adopted_version)
    return calendar(
        plan, head.name, told, identity=planning().identity(), sequence=head.adopted_version,
        adopted_at=made_at, zone=origin.zone,
    )  # fmt: skip


@blueprint.get("/calendar.ics")
@blueprint.input(CalendarQuerySchema, location="query")
@blueprint.output(EmptySchema, content_type=ICALENDAR)
def show_calendar(plan_id: int, query_data: dict[str, Any]) -> Response:
    """Coming nights of the adopted plan, and their runs if asked for, as an iCalendar file."""
    made = _calendar(plan_id, query_data["what"], query_data["nights"])
    return file_answer(made, ICALENDAR, "backups.ics")


@blueprint.get("/server-scripts.zip")
@blueprint.output(EmptySchema, content_type="application/zip")
def show_server_scripts(plan_id: int) -> Response:
    """Crontabs and systemd timers for servers that are backed up by scripts of their own."""
    _, _, forecaster = looked_at(plan_id, None)
    content = BytesIO()
    with zipfile.ZipFile(content, "w", zipfile.ZIP_DEFLATED) as archive:
        for path, text in server_files(forecaster.plan, base_address(), forecaster.origin.start):
            archive.writestr(path, text)
    return file_answer(content.getvalue(), "application/zip", "server-scripts.zip")


def _feed(feed: store.Feed) -> dict[str, Any]:
    return {
        "id": feed.id,
        "name": feed.name,
        "what": feed.what,
        "made_by": feed.made_by,
        "created_at": utc(feed.created_at),
        "used_at": utc(feed.used_at),
    }


@blueprint.get("/feeds")
@blueprint.output(FeedsSchema)
def list_feeds(plan_id: int) -> dict[str, Any]:
    """The feeds of a plan."""
    with planning().sessions() as db:
        plan_head(db, plan_id)
        return {"feeds": [_feed(feed) for feed in store.feeds(db, plan_id)]}


@blueprint.post("/feeds")
@blueprint.input(NewFeedSchema)
@blueprint.output(MadeFeedSchema, status_code=201)
def make_feed(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Make a feed. Whoever has its address reads it; a calendar program needs no sign-in."""
    feed, secret = planning().write(
        lambda db: store.new_feed(db, plan_id, json_data["name"], json_data["what"], actor=actor())
    )
    return {"feed": _feed(feed), "address": f"{base_address()}/feeds/{secret}.ics"}


@blueprint.delete("/feeds/<int:feed_id>")
@blueprint.output({}, status_code=204)
def end_feed(plan_id: int, feed_id: int) -> str:
    """Have the address of a feed lead nowhere."""
    planning().write(lambda db: store.end_feed(db, plan_id, feed_id, actor=actor()))
    return ""


@addresses.get("/feeds/<secret>.ics")
@limiter.limit(READS)
def read_feed(secret: str) -> Response:
    """A feed, for whoever has its address."""
    feed = planning().write(lambda db: store.feed_of_secret(db, secret))
    if feed is None:
        raise ProblemError(404, "There is no such feed", "It was ended, or the address is wrong.")
    response = Response(_calendar(feed.plan_id, feed.what, USUAL_NIGHTS), mimetype=ICALENDAR)
    response.add_etag()
    response.cache_control.private = True
    response.cache_control.max_age = 300
    response.make_conditional(request)
    return response
