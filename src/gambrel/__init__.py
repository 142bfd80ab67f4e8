"""Gambrel plans backup schedules: it computes what all the jobs of a plan will do together."""

__version__ = "0.1.0"
