"""Every table of the screens as a file: the same answer that the screen shows, row by row."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from itertools import chain
from typing import Any

from apiflask import APIBlueprint, EmptySchema, Schema
from apiflask.fields import Date, Integer
from flask import Response, current_app

from gambrel.api.answers import table_answer
from gambrel.api.problems import ProblemError, field_error
from gambrel.api.rights import RIGHTS
from gambrel.api.sessions import require

blueprint = APIBlueprint("table_files", __name__, tag="Tables", url_prefix="/api/v1")

Row = dict[str, Any]


class TableQuerySchema(Schema):
    """What the table is asked for, besides what the same request on the screen takes."""

    day = Date(load_default=None, metadata={"description": "of the night or the week"})
    draft = Integer(load_default=None, metadata={"description": "instead of the adopted plan"})
    computation = Integer(
        load_default=None, metadata={"description": "whose result the table is, where it is one's"}
    )


@dataclass(frozen=True, slots=True)
class ShownTable:
    """A table of a screen.

    Attributes:
        endpoint: whose answer has it.
        rows: the list of that answer, or how its rows come out of it.
        by_day: whether the address of that answer holds a day.
        of_computation: whether it is about what a computation found.
        by_post: whether that answer is asked for with a body.
        of_plan: whether it is about a plan; people and tokens are those of all plans.
    """

    endpoint: str
    rows: str | Callable[[Row], Iterator[Row]]
    by_day: bool = False
    of_computation: bool = False
    by_post: bool = False
    of_plan: bool = True


def _reach(body: Row) -> Iterator[Row]:
    for row in body["rows"]:
        cells = {
            f"by_{proxy}": _cell(c) for proxy, c in zip(body["proxies"], row["cells"], strict=True)
        }
        yield {"host": row["name"], "machines": row["machines"], **cells}


def _cell(cell: Row) -> str:
    return "; ".join(str(value) for value in cell.values() if isinstance(value, str) and value)


def _paths(body: Row) -> Iterator[Row]:
    for kind, items in body.items():
        for item in items if isinstance(items, list) else ():
            if isinstance(item, dict) and "label" in item:
                yield {"kind": kind, "label": item["label"], **item["value"],
                       "used_by": item["used_by"], "points": item["points"],
                       "used_bytes": item["used_bytes"]}  # fmt: skip


def _promises(body: Row) -> Iterator[Row]:
    for machine in body["machines"]:
        for day, night in zip(body["dates"], machine["nights"], strict=True):
            yield {**{k: v for k, v in machine.items() if k != "nights"}, "night": day, **night}


def _exposure(body: Row) -> Iterator[Row]:
    for machine, worst in body["worst_s"].items():
        yield {"machine": machine, "worst_s": worst}


def _openings(body: Row) -> Iterator[Row]:
    for window in body["windows"]:
        for opening in window["openings"]:
            yield {"window": window["id"], **opening}


def _compared_nights(body: Row) -> Iterator[Row]:
    """Both sides of each night, one under the other."""
    for night in zip(body["one"]["nights"], body["other"]["nights"], strict=True):
        for side, told in zip(("one", "other"), night, strict=True):
            yield {"plan": body[side]["name"], **told}


def _space(body: Row) -> Iterator[Row]:
    """Repositories and months; the most that stands in a month, by the parts of it."""
    start, end = (datetime.fromisoformat(body[name]) for name in ("start", "end"))
    begins = [datetime.fromisoformat(month["start"]) for month in body["months"]]
    for life in body["repositories"]:
        held, parts = life["gib"], len(life["gib"])
        first = [int((at - start) / (end - start) * parts) for at in begins]
        for month, low, high in zip(body["months"], first, [*first[1:], parts], strict=True):
            yield {
                "repository": life["id"], "site": life["site"], "month": month["name"],
                "most_gib": max(held[low : max(high, low + 1)]),
                "capacity_gib": life["capacity_gib"], "full_at": life["full_at"],
                "feared_full_at": life["feared_full_at"],
            }  # fmt: skip


def _moves(body: Row) -> Iterator[Row]:
    """The moves of a proposal, the one that brings most first."""
    for move in (body["result"] or {}).get("moves", ()):
        yield {
            name: move[name] for name in ("turn", "words", "reason", "cost", "brings", "without")
        }


TABLES: Mapping[str, ShownTable] = {
    "week": ShownTable("plans.show_week", "nights", by_day=True),
    "runs": ShownTable("plans.show_night", "run_list", by_day=True),
    "copies": ShownTable("plans.show_night", "copies", by_day=True),
    "findings": ShownTable("plans.show_findings", "findings", by_day=True),
    "night-sheet": ShownTable("night_sheets.show_night_sheet", "runs", by_day=True),
    "jobs": ShownTable("jobs.list_jobs", "jobs"),
    "paths": ShownTable("paths.show_paths", _paths, by_day=True),
    "loads": ShownTable("paths.show_loads", "loads", by_day=True),
    "reach": ShownTable("paths.show_reach", _reach),
    "openings": ShownTable("paths.show_windows", _openings, by_day=True),
    "differences": ShownTable("inbox.show_inbox", "differences"),
    "exposure": ShownTable("estate.show_exposure", _exposure, by_day=True),
    "tonight": ShownTable("runs.show_tonight", "runs"),
    "not-done": ShownTable("runs.show_tonight", "troubles"),
    "past-nights": ShownTable("runs.show_past_nights", "nights"),
    "forecast-errors": ShownTable("runs.show_forecast_errors", "nights"),
    "learned-rates": ShownTable("runs.show_learned_rates", "rates"),
    "learned-changes": ShownTable("runs.show_learned_changes", "machines"),
    "learned-times": ShownTable("runs.show_learned_times", "times"),
    "learned-ratios": ShownTable("runs.show_learned_ratios", "machines"),
    "failure-rates": ShownTable("runs.show_failure_rates", "machines"),
    "past-night": ShownTable("runs.show_past_night", "runs", by_day=True),
    "promises": ShownTable("recovery.show_promises", _promises, by_day=True),
    "restore-tests": ShownTable("restore_tests.show_restore_tests", "record"),
    "growth": ShownTable("runway.show_growth", "machines"),
    "space": ShownTable("runway.show_runway", _space, by_post=True),
    "comparison": ShownTable("versions.show_comparison", "changes", by_day=True),
    "compared-nights": ShownTable("versions.show_comparison", _compared_nights, by_day=True),
    "moves": ShownTable("balance.show_computation", _moves, of_computation=True, of_plan=False),
    "adoptions": ShownTable("versions.list_adoptions", "*"),
    "sources": ShownTable("sources.list_sources", "sources"),
    "runners": ShownTable("runs.show_runners", "runners"),
    "feeds": ShownTable("feeds.list_feeds", "feeds"),
    "people": ShownTable("people.list_people", "people", of_plan=False),
    "tokens": ShownTable("people.list_tokens", "tokens", of_plan=False),
}
"""By the name in its address. Those with files of their own are not among them: the estate, the
ledger, the trail, occupancy, the purchase."""


def _flat(row: Mapping[str, Any], before: str = "") -> Iterator[tuple[str, Any]]:
    """The cells of a row; an entry within an entry gets a dotted name."""
    for key, value in row.items():
        if isinstance(value, Mapping):
            yield from _flat(value, f"{before}{key}.")
        elif not isinstance(value, list):
            yield f"{before}{key}", value
        elif all(isinstance(each, str) for each in value):
            yield f"{before}{key}", "; ".join(value)
        elif all(isinstance(each, Mapping) for each in value):
            told = (each.get("words") or each.get("name") or each.get("id") for each in value)
            yield f"{before}{key}", "; ".join(str(each) for each in told if each)
        # Curves are lists of numbers, and no cells.


def _read(table: ShownTable, body: Any) -> tuple[Sequence[str], list[list[Any]]]:
    if callable(table.rows):
        found = table.rows(body)
    else:
        found = iter(body if table.rows == "*" else body[table.rows])
    flat = [dict(_flat(row)) for row in found]
    header = list(dict.fromkeys(chain.from_iterable(flat)))
    return header, [[row.get(name) for name in header] for row in flat]


def _table_named(name: str) -> ShownTable:
    table = TABLES.get(name)
    if table is None:
        raise ProblemError(404, "There is no such table", f"There are {', '.join(sorted(TABLES))}.")
    require(RIGHTS[table.endpoint])
    return table


def _needed(query: Mapping[str, Any], key: str) -> Any:
    if query[key] is None:
        raise ProblemError(
            422, f"Of which {key}?", "The table was not made.",
            errors=[field_error(key, None, "is needed for this table")],
        )  # fmt: skip
    return query[key]


def _file_of(table: ShownTable, name: str, form: str, where: dict[str, Any]) -> Response:
    """The answer behind a table, as the request that is being answered asks for it, as a file."""
    response = current_app.make_response(
        current_app.ensure_sync(current_app.view_functions[table.endpoint])(**where)
    )
    if response.status_code != 200:
        return response
    header, rows = _read(table, response.get_json())
    day = f"-{where['day']}" if "day" in where else ""
    return table_answer(f"{name}{day}", form, header, rows)


@blueprint.get("/plans/<int:plan_id>/tables/<name>.<form>")
@blueprint.input(TableQuerySchema, location="query")
@blueprint.output(EmptySchema, content_type="text/csv")
def show_table(plan_id: int, name: str, form: str, query_data: dict[str, Any]) -> Response:
    """A table of a screen as CSV or as a workbook; `form` is csv or xlsx.

    Columns are named as in the answer of the API that the screen shows, units in the name.
    """
    table = _table_named(name)
    if table.by_post:
        raise ProblemError(422, "This table is asked for with a body", "Ask for it by POST.")
    where: dict[str, Any] = {"plan_id": plan_id} if table.of_plan else {}
    if table.by_day:
        where["day"] = _needed(query_data, "day").isoformat()
    if table.of_computation:
        where["computation_id"] = _needed(query_data, "computation")
    return _file_of(table, name, form, where)


@blueprint.post("/plans/<int:plan_id>/tables/<name>.<form>")
@blueprint.output(EmptySchema, content_type="text/csv")
def show_asked_table(plan_id: int, name: str, form: str) -> Response:
    """A table of a screen that is asked for with a body, such as changes that are not saved yet.

    The body is that of the request on the screen.
    """
    table = _table_named(name)
    if not table.by_post:
        raise ProblemError(422, "This table takes no body", "Ask for it by GET.")
    return _file_of(table, name, form, {"plan_id": plan_id})
