"""What moves cost: protection that a plan would no longer have, or points that lie elsewhere."""

from __future__ import annotations

from gambrel.core.balance.moves import Aspect
from gambrel.core.edits.item_edits import ChangeItem
from gambrel.core.edits.operations import Operation
from gambrel.core.edits.splitting import SplitJob
from gambrel.core.plan.objects import Plan
from gambrel.core.schedules.words import listed
from gambrel.core.units import MINUTE
from gambrel.core.words import duration

_AT_WINDOW_END = {
    "stop": "What is not done when the window closes is cut off, and what it moved is lost.",
    "finish": "What has not begun when the window closes is not backed up that night.",
    "run_on": "Machines may still begin when the window has closed, and are read while they work.",
}


def cost_of(plan: Plan, aspect: Aspect, operation: Operation) -> str:
    """What a move costs, in a sentence; "" where it costs no protection.

    Args:
        plan: as it is before the move.
    """
    ident, kind, _ = aspect
    if isinstance(operation, SplitJob):
        return "There is one more job to look after; points go along with their machines."
    if not isinstance(operation, ChangeItem):
        return ""
    job = plan.job_by_id[ident]
    value = next(iter(operation.changes.values()))
    match kind:
        case "repository":
            return f"Its points stay in {job.repository}; what goes to {value} begins with a full."
        case "synthetic":
            return "A full is made of points that are there, so that a damaged one damages it too."
        case "window_end":
            return _AT_WINDOW_END[value]
        case "copies":
            places = listed([copy.repository for copy in job.copies])
            least = min(copy.delay_min for copy in job.copies)
            most = max(copy["delay_min"] for copy in value)
            longer = duration((most - least) * MINUTE)
            return f"Each point is {longer} longer without its copy in {places}."
        case "chain" if value == "forever":
            return (
                "There is one full only: every restore needs it, and where it is damaged "
                "nothing can be restored."
            )
        case "chain":
            return "A restore needs every increment since the full, and not one of them only."
        case "verify" if value is False:
            return "Its fulls are not verified any more, only the points built on them."
        case "verify" if value == "none":
            return "Its points are no longer verified."
        case "verify":
            return "Its points are read back, but no machine is started from them any more."
    return ""
