"""Answers that depend on the state of a plan only: tagged, kept, and given again.

A version never changes and a draft has a revision, so two requests of the same address at the same
state have the same answer. It is kept as bytes under its tag and its address.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import wraps
from typing import Any, TypeVar

from flask import Response, current_app, request

from gambrel.api.problems import ProblemError
from gambrel.api.sessions import planning
from gambrel.build import build
from gambrel.core.caches import MIB, ByteCache
from gambrel.formats.tables import WORKBOOK, TooManyRows, csv_lines, workbook
from gambrel.store import plans as store

TAGGED = "tagged"
"""The attribute of a view whose answers carry an ETag."""
MOST_BYTES = 32 * MIB

View = TypeVar("View", bound=Callable[..., Any])

_answers: ByteCache[bytes] = ByteCache("answers", MOST_BYTES, len)


def tag_of(
    head: store.PlanHead, draft: store.Draft | None, open_drafts: Sequence[store.Draft] = ()
) -> str:
    """Names all that an answer depends on: program, database, version, draft, drafts."""
    night = planning().night_begun(head.id)
    states = [build(), planning().identity(), str(head.adopted_version)]
    states += [] if night is None else [night.date.isoformat()]
    states += ["adopted" if draft is None else f"{draft.id}.{draft.revision}"]
    states += [f"{d.id}.{d.revision}" for d in open_drafts]
    return "-".join(states)


def revision_tag(
    response: Response,
    head: store.PlanHead,
    draft: store.Draft | None,
    open_drafts: Sequence[store.Draft] = (),
) -> Response:
    """Tag an answer with the state of the plan that it is about, and keep it."""
    tag = tag_of(head, draft, open_drafts)
    _answers.put((tag, request.full_path), response.get_data())
    return _conditional(response, tag)


def _conditional(response: Response, tag: str) -> Response:
    response.set_etag(tag)
    response.cache_control.no_cache = True
    response.cache_control.private = True
    response.make_conditional(request)
    return response


def _state_now(plan_id: int, draft_id: int | None, with_drafts: bool) -> str | None:
    """The tag of a plan, or of a draft of it, as it is now; None where the view has to say why."""
    try:
        with planning().sessions() as db:
            head, draft = store.head_and_draft(db, plan_id, draft_id)
            drafts = store.drafts(db, plan_id) if with_drafts else ()
    except store.NotFound:
        return None
    return tag_of(head, draft, drafts)


def _tagged(view: View, *, with_drafts: bool) -> View:
    @wraps(view)
    def answered(plan_id: int, *arguments: Any, **more: Any) -> Any:
        tag = _state_now(plan_id, more["query_data"].get("draft"), with_drafts)
        known = None if tag is None else _answers.get((tag, request.full_path))
        if known is None or tag is None:
            return view(plan_id, *arguments, **more)
        response = current_app.response_class(known, mimetype="application/json")
        return _conditional(response, tag)

    setattr(answered, TAGGED, True)
    return answered  # type: ignore[return-value]


def tagged(view: View) -> View:
    """Have a view answer from what was answered before; it tags its answer with `revision_tag`."""
    return _tagged(view, with_drafts=False)


def tagged_with_drafts(view: View) -> View:
    """As `tagged`, for an answer that lists the open drafts of its plan."""
    return _tagged(view, with_drafts=True)


def table_answer(
    name: str, form: str, header: Sequence[str], rows: Iterable[Sequence[Any]]
) -> Response:
    """A table as a file that is saved: `form` is "csv" or "xlsx". Raises ProblemError."""
    if form == "csv":
        return file_answer(csv_lines(header, rows), "text/csv", f"{name}.csv")
    if form != "xlsx":
        raise ProblemError(404, "There is no such kind of file", "Tables come as csv or xlsx.")
    try:
        content = workbook([(name, header, rows)])
    except TooManyRows as error:
        raise ProblemError(422, "This is too much for a workbook", f"{error}.") from None
    return file_answer(content, WORKBOOK, f"{name}.xlsx")


def file_answer(content: str | bytes | Iterable[str], mimetype: str, name: str) -> Response:
    """An answer that a browser saves as a file."""
    response = Response(content, mimetype=mimetype)
    response.headers["Content-Disposition"] = f'attachment; filename="{name}"'
    return response
