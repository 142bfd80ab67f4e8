"""Made-up sample data: the story of Larkmoor Ferries, seeded and the same everywhere."""

from gambrel.demo.large import large
from gambrel.demo.larkmoor import larkmoor
from gambrel.demo.tiny import tiny

SCENARIOS = {"tiny": tiny, "larkmoor": larkmoor, "large": large}
"""Every sample plan by name: functions that return a decoded plan file."""

__all__ = ["SCENARIOS", "large", "larkmoor", "tiny"]
