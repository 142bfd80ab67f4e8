"""What environment variables set, checked before anything is started."""

from __future__ import annotations

from collections.abc import Mapping

from gambrel.commands.places import CommandError
from gambrel.connectors.addresses import USUAL, Allowed, allowed_from
from gambrel.core.caches import MIB
from gambrel.core.caches import USUAL_MIB as USUAL_CACHES_MIB
from gambrel.store.housekeeping import Keep
from gambrel.work.forecast_cache import USUAL_MIB as USUAL_FORECAST_MIB

ADDRESS = "GAMBREL_ADDRESS"
"""The address at which people reach the application, where a proxy is in front of it."""
SOURCE_NETWORKS = "GAMBREL_SOURCE_NETWORKS"
"""The networks, and ports of them, in which sources may be: "10.1.0.0/16 10.2.0.0/16=443,8443"."""
KEEP_VERSIONS = "GAMBREL_KEEP_VERSIONS"
"""How many of its newest versions each plan keeps."""
KEEP_COMPUTATIONS = "GAMBREL_KEEP_COMPUTATIONS"
"""How many of its newest proposals and other computations each plan keeps."""
KEEP_EVENTS = "GAMBREL_KEEP_EVENT_DAYS"
"""For how many days events of runners, sent mails and restore points that are gone are kept."""
KEEP_AUDIT = "GAMBREL_KEEP_AUDIT_DAYS"
"""For how many days entries of the audit trail are kept; at least 91."""
KEEP_LEDGER = "GAMBREL_KEEP_LEDGER_DAYS"
"""For how many days nights and runs of the ledger are kept."""
PROXIES = "GAMBREL_PROXIES"
"""How many reverse proxies stand in front of the application: it believes what so many say of the
address of who asks."""
LOG_MIB = "GAMBREL_LOG_MIB"
"""How large a log may grow, in MiB, before it is put aside; three older ones are kept."""
USUAL_LOG_MIB = 8
CACHES_MIB = "GAMBREL_CACHES_MIB"
"""What is kept in memory to answer sooner, in MiB, all together."""
FORECAST_MIB = "GAMBREL_FORECAST_MIB"
"""How much of that forecasts may take, in MiB."""

BESIDE_MIB = "GAMBREL_BESIDE_MIB"
"""The memory of the server up to which simulations begin beside others, in MiB."""
USUAL_BESIDE_MIB = 1536


def _number(environment: Mapping[str, str], name: str, usual: int) -> int:
    text = environment.get(name, "")
    if not text:
        return usual
    if not (text.isascii() and text.isdigit() and int(text[:9]) >= 1 and len(text) <= 9):
        raise CommandError(f"{name} is {text!r}; write a whole number, such as {usual}.")
    return int(text)


def address_from(environment: Mapping[str, str]) -> str:
    """The address that people use; "" where it is that of this machine. Raises CommandError."""
    address = environment.get(ADDRESS, "").rstrip("/")
    if address and not address.startswith(("http://", "https://")):
        raise CommandError(f"{ADDRESS} is {address!r}; write it like https://plan.example.org.")
    return address


def sources_from(environment: Mapping[str, str]) -> tuple[Allowed, ...]:
    """Where sources may be. Raises CommandError."""
    try:
        return allowed_from(environment.get(SOURCE_NETWORKS) or USUAL)
    except ValueError as error:
        raise CommandError(f"{SOURCE_NETWORKS}: {error}.") from None


def keep_from(environment: Mapping[str, str]) -> Keep:
    """How much the store keeps. Raises CommandError."""
    usual = Keep()
    return Keep(
        versions=_number(environment, KEEP_VERSIONS, usual.versions),
        computations=_number(environment, KEEP_COMPUTATIONS, usual.computations),
        event_days=_number(environment, KEEP_EVENTS, usual.event_days),
        audit_days=_number(environment, KEEP_AUDIT, usual.audit_days),
        ledger_days=_number(environment, KEEP_LEDGER, usual.ledger_days),
    )


def proxies_from(environment: Mapping[str, str]) -> int:
    """How many reverse proxies there are; 0: none. Raises CommandError."""
    return _number(environment, PROXIES, 0) if environment.get(PROXIES) else 0


def log_bytes_from(environment: Mapping[str, str]) -> int:
    """How large a log may grow. Raises CommandError."""
    return _number(environment, LOG_MIB, USUAL_LOG_MIB) * MIB


def caches_bytes_from(environment: Mapping[str, str]) -> int:
    """How much all caches may hold together. Raises CommandError."""
    return _number(environment, CACHES_MIB, USUAL_CACHES_MIB) * MIB


def forecast_bytes_from(environment: Mapping[str, str]) -> int:
    """How much of it forecasts may hold. Raises CommandError."""
    return _number(environment, FORECAST_MIB, USUAL_FORECAST_MIB) * MIB


def beside_bytes_from(environment: Mapping[str, str]) -> int:
    """Up to which memory simulations begin beside others. Raises CommandError."""
    return _number(environment, BESIDE_MIB, USUAL_BESIDE_MIB) * MIB
