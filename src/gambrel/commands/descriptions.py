"""Files that are made from the code and committed: the API, the plan file, the fields of forms."""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any


def _api() -> Any:
    from gambrel.api.app import openapi

    return openapi()


def _plan_file() -> Any:
    from gambrel.core.plan.reading import plan_schema

    return plan_schema()


def _form_fields() -> Any:
    from gambrel.core.plan.objects import Transports
    from gambrel.core.plan.reading import ITEMS
    from gambrel.core.plan.shapes import form_fields, shape_of

    shapes = {name: shape for name, shape in ITEMS.items() if name != "jobs"}
    return {
        name: [
            {
                key: value
                for key, value in dataclasses.asdict(field).items()
                if value not in (None, "", (), False)
            }
            for field in form_fields(shape)
        ]
        for name, shape in {**shapes, "transports": shape_of(Transports)}.items()
    }


def _repository_kinds() -> Any:
    from gambrel.core.plan.places import USUAL_OF_KIND

    return USUAL_OF_KIND


MADE: dict[str, Callable[[], Any]] = {
    "docs/openapi.json": _api,
    "docs/gambrel-plan-1.schema.json": _plan_file,
    "web/src/api/fields.json": _form_fields,
    "web/src/api/repositoryKinds.json": _repository_kinds,
}
"""By path in the project, what makes each."""


def write_all(folder: Path) -> list[Path]:
    """Make every file anew below a folder; returns their paths."""
    paths = []
    for name, make in MADE.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(json.dumps(make(), indent=1, ensure_ascii=False) + "\n")
        paths.append(path)
    return paths
