"""`gambrel load` and `save`: plan files into the database and out of it."""

from __future__ import annotations

from pathlib import Path

from gambrel.commands.database import database
from gambrel.commands.files import listed, read, write
from gambrel.commands.opening import prepared
from gambrel.commands.places import CommandError, say
from gambrel.core.edits.operations import apply_all
from gambrel.formats import plan_file
from gambrel.store.plan_tables import NotStorable
from gambrel.store.plans import draft, drafts, plan_heads, store_plan, version_plan


def load(path: str, name: str | None) -> None:
    """Store a plan file as the adopted version of a plan."""
    plan = read(path)
    chosen = name or Path(path).stem
    with database() as (url, _):
        try:
            with prepared(url).begin() as db:
                head = store_plan(
                    db, chosen, plan, actor="gambrel load", note=f"loaded from {path}"
                )
        except NotStorable as error:
            raise CommandError(listed(path, error.problems)) from error
    say(f"Stored as plan {head.name}, version {head.adopted_version}.")


def save(name: str | None, draft_id: int | None, output: str) -> None:
    """Write a stored plan, as adopted or as a draft has it, to a plan file."""
    with database() as (url, _), prepared(url)() as db:
        heads = plan_heads(db)
        if not heads:
            raise CommandError("No plan is stored yet. `./gambrel load PLAN.json` stores one.")
        head = max(heads, key=lambda h: h.adopted_version)
        if name is not None:
            found = [h for h in heads if h.name == name]
            if not found:
                known = ", ".join(h.name for h in heads)
                raise CommandError(f"There is no plan {name}. There are: {known}.")
            head = found[0]
        if draft_id is None:
            plan = version_plan(db, head.adopted_version)
        else:
            if draft_id not in [d.id for d in drafts(db, head.id)]:
                raise CommandError(f"There is no open draft {draft_id} of plan {head.name}.")
            chosen = draft(db, draft_id)
            plan = apply_all(version_plan(db, chosen.base_version), chosen.operations)
    write(output, plan_file.write(plan))
