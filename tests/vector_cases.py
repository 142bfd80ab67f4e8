"""The worked cases under tests/vectors, and how their numbers are compared."""

from __future__ import annotations

import json
from datetime import datetime
from pathlib import Path
from typing import Any

VECTORS = Path(__file__).parent / "vectors"
PLAN_CASES = sorted(path.name for path in VECTORS.glob("*-*.json"))
RESTORE_CASES = sorted(f"restores/{path.name}" for path in (VECTORS / "restores").glob("*.json"))

RELATIVE = 1e-6
ABSOLUTE = {"_s": 0.01, "_bytes": 1.0}
INSTANT_KEYS = {
    "occurrence", "began", "ended", "window_end", "queued", "start", "moved", "at", "exists_from",
    "due", "back", "whole",
}  # fmt: skip


def load(name: str) -> Any:
    return json.loads((VECTORS / name).read_text())


def _seconds(text: str) -> float:
    return datetime.fromisoformat(text).timestamp()


def differences(expected: Any, actual: Any, path: str = "", key: str = "") -> list[str]:
    """Every place at which two results differ by more than the tolerances of the worked cases."""
    if isinstance(expected, dict):
        if key == "squeeze_s":
            return _squeeze_differences(expected, actual, path)
        if set(expected) != set(actual):
            return [f"{path}: keys {sorted(expected)} but got {sorted(actual)}"]
        return [
            line
            for name in expected
            for line in differences(expected[name], actual[name], f"{path}.{name}", name)
        ]
    if isinstance(expected, list):
        if len(expected) != len(actual):
            return [f"{path}: {len(expected)} entries but got {len(actual)}"]
        return [
            line
            for i, (one, other) in enumerate(zip(expected, actual, strict=True))
            for line in differences(one, other, f"{path}[{i}]", key)
        ]
    same = expected == actual
    if key in INSTANT_KEYS and expected is not None and actual is not None:
        same = abs(_seconds(expected) - _seconds(actual)) <= 0.0101
    elif (
        isinstance(expected, int | float) and not isinstance(expected, bool) and actual is not None
    ):
        slack = max((a for suffix, a in ABSOLUTE.items() if key.endswith(suffix)), default=0.0)
        same = abs(expected - actual) <= max(slack, RELATIVE * abs(expected))
    return [] if same else [f"{path}: {expected!r} but got {actual!r}"]


def _squeeze_differences(expected: dict[str, float], actual: Any, path: str) -> list[str]:
    return [
        f"{path}.{name}: {expected.get(name, 0.0)!r} but got {actual.get(name, 0.0)!r}"
        for name in sorted({*expected, *actual})
        if abs(expected.get(name, 0.0) - actual.get(name, 0.0))
        > max(0.01, RELATIVE * expected.get(name, 0.0))
    ]
