"""How sources are asked: one module for each make, all with the same two questions."""

from __future__ import annotations

from collections.abc import Callable

from gambrel.connectors.asking import Access, Account, Connector, Place, SourceError
from gambrel.connectors.make_a import MakeA
from gambrel.connectors.make_b import MakeB
from gambrel.connectors.make_c import MakeC

MAKES: dict[str, Callable[[Place], Connector]] = {"A": MakeA, "B": MakeB, "C": MakeC}
"""Connectors by make."""

__all__ = ["MAKES", "Access", "Account", "Connector", "Place", "SourceError"]
