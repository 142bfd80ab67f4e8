"""Nights, how they end, and why."""
