"""The ledger as files: CSV for tables, `gambrel-ledger/1` JSON lines for other programs."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from typing import Any, Protocol

from gambrel.core.ledger.records import MachineRecord
from gambrel.core.plan.instants import format_known as at
from gambrel.formats import tables

LEDGER_FORMAT = "gambrel-ledger/1"
COLUMNS = (
    "job", "occurrence", "machine", "outcome", "reason", "kind", "start", "end", "source_bytes",
    "wire_bytes", "stored_bytes", "predicted_start", "predicted_end", "predicted_source_bytes",
)  # fmt: skip


class Entry(Protocol):
    """A machine-run of the ledger."""

    @property
    def job(self) -> str: ...
    @property
    def occurrence(self) -> float: ...
    @property
    def record(self) -> MachineRecord: ...


def _row(entry: Entry) -> dict[str, Any]:
    record, predicted = entry.record, entry.record.predicted or {}

    return {
        "job": entry.job,
        "occurrence": at(entry.occurrence),
        "machine": record.machine,
        "outcome": record.outcome,
        "reason": record.reason,
        "kind": record.kind,
        "start": at(record.start),
        "end": at(record.ended),
        "source_bytes": round(record.moving_bytes()),
        "wire_bytes": round(record.wire_bytes),
        "stored_bytes": round(record.stored_bytes),
        "predicted_start": at(predicted.get("start")),
        "predicted_end": at(predicted.get("ended")),
        "predicted_source_bytes": predicted.get("source_bytes"),
    }


def rows(entries: Iterable[Entry]) -> Iterator[list[Any]]:
    """The rows of a table with `COLUMNS`."""
    return ([row[column] for column in COLUMNS] for row in map(_row, entries))


def json_lines(entries: Iterable[Entry]) -> Iterator[str]:
    """`gambrel-ledger/1`: a line with the format, then one for each machine-run."""
    lines = [json.dumps({"format": LEDGER_FORMAT})]
    for entry in entries:
        lines.append(json.dumps({k: v for k, v in _row(entry).items() if v not in (None, "")}))
        if len(lines) >= tables.LINES_AT_ONCE:
            yield "\n".join(lines) + "\n"
            lines = []
    yield "\n".join(lines) + ("\n" if lines else "")
