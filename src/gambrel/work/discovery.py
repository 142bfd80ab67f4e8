"""Reading sources and trying their accounts, side by side and in the background."""

from __future__ import annotations

import logging
import time
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from threading import Event, Lock, Thread

from sqlalchemy.orm import Session

from gambrel.connectors import MAKES, Access, Account, Connector, Place, SourceError
from gambrel.connectors.addresses import USUAL, Allowed, allowed_from, check_allowed
from gambrel.connectors.asking import Cancelled
from gambrel.core.estate.differences import EstateError, differences
from gambrel.core.estate.inventory import Inventory
from gambrel.store import inbox, sources, standing_rules
from gambrel.store.models import now_utc
from gambrel.store.sealing import Sealer
from gambrel.work.planning import Planning

log = logging.getLogger(__name__)

SIDE_BY_SIDE = 6
"""How many sources are read at once."""
TRIES_SIDE_BY_SIDE = 24
"""How many accounts are tried at once."""
TRY_WITHIN_S = 5.0
"""How long an account may take to answer."""
NOTED_EVERY_S = 0.5
"""How often the progress of a discovery is written down."""
LOOKED_AT_EVERY_S = 20.0
"""How often is looked whether an interval has passed."""


class Discoveries:
    """Runs discoveries and access checks for the sources of all plans.

    Args:
        allowed: where sources may be.
    """

    def __init__(
        self, planning: Planning, sealer: Sealer, allowed: Sequence[Allowed] | None = None
    ) -> None:
        self.planning = planning
        self.sealer = sealer
        self.allowed = allowed_from(USUAL) if allowed is None else tuple(allowed)
        self._pool = ThreadPoolExecutor(SIDE_BY_SIDE, thread_name_prefix="discovery")
        self._lock = Lock()
        self._unwanted: dict[int, Event] = {}
        self._running: dict[int, Future[None]] = {}
        self._stopped = Event()

    # --- access ---------------------------------------------------------------------------

    def check_access(self, source_ids: list[int]) -> None:
        """Try all accounts of some sources at once; each has a time limit of its own."""
        with self.planning.sessions() as db:
            chosen = [sources.source(db, ident) for ident in source_ids]
            sealed = {ident: sources.sealed_accounts(db, ident) for ident in source_ids}

        def attempt(
            source: sources.Source, ident: int, scope: str, user: str, sealed_secret: str
        ) -> tuple[int, bool, str, str]:
            try:
                account = Account(scope, user, self.sealer.open(sealed_secret))
                check_allowed(source.address, self.allowed)
                found = _connector(source).check(account, TRY_WITHIN_S)
            except SourceError as error:
                found = Access(False, error.failure, error.advice)
            except ValueError as error:
                found = Access(False, str(error), "Enter the secret again.")
            return ident, found.works, found.failure, found.advice

        with ThreadPoolExecutor(TRIES_SIDE_BY_SIDE, thread_name_prefix="access") as pool:
            tries = [
                pool.submit(attempt, source, *account)
                for source in chosen
                for account in sealed[source.id]
            ]
            results = [each.result() for each in tries]
        self.planning.write(lambda db: sources.note_access(db, results))

    # --- discovery ------------------------------------------------------------------------

    def start(self, source_id: int, *, actor: str) -> int:
        """Begin to read a source; returns the id of the discovery.

        Raises:
            EstateError: where it is being read already.
        """
        discovery = self.planning.write(
            lambda db: sources.start_discovery(db, source_id, actor=actor)
        )
        unwanted = Event()
        with self._lock:
            self._unwanted[discovery] = unwanted
            self._running[discovery] = self._pool.submit(self._run, source_id, discovery, unwanted)
        return discovery

    def cancel(self, discovery_id: int) -> None:
        """Have a discovery end without a result; one that has ended stays as it is."""
        with self._lock:
            unwanted = self._unwanted.get(discovery_id)
        if unwanted is not None:
            unwanted.set()

    def wait(self, discovery_id: int, within_s: float = 60.0) -> None:
        """Wait until a discovery has ended."""
        with self._lock:
            running = self._running.get(discovery_id)
        if running is not None:
            running.result(within_s)

    def _run(self, source_id: int, discovery: int, unwanted: Event) -> None:
        state, message, found = "failed", "", 0
        try:
            inventory, plan_id = self._read(source_id, discovery, unwanted)
            if unwanted.is_set():
                raise Cancelled
            found = self._keep(source_id, discovery, plan_id, inventory)
            return
        except Cancelled:
            state, message = "cancelled", "It was cancelled. Nothing was changed."
        except SourceError as error:
            message = f"{error.failure} {error.advice}"
        except ValueError as error:
            message = f"{error}. Nothing was changed."
        except Exception:
            log.exception("discovery %s", discovery)
            message = "Something went wrong on our side. Nothing was changed."
        finally:
            with self._lock:
                self._unwanted.pop(discovery, None)
        self.planning.write(lambda db: sources.end_discovery(db, discovery, state, message, found))

    def _read(self, source_id: int, discovery: int, unwanted: Event) -> tuple[Inventory, int]:
        with self.planning.sessions() as db:
            source = sources.source(db, source_id)
            accounts = sources.sealed_accounts(db, source_id)
        if not accounts:
            raise SourceError("It has no account.", "Enter one.")
        _, scope, user, sealed = next((a for a in accounts if a[1] == "source"), accounts[0])
        noted = 0.0

        def progress(read: int, expected: int | None) -> None:
            nonlocal noted
            if unwanted.is_set():
                raise Cancelled
            if time.monotonic() - noted > NOTED_EVERY_S:
                noted = time.monotonic()
                self.planning.write(lambda db: sources.note_progress(db, discovery, read, expected))

        check_allowed(source.address, self.allowed)
        account = Account(scope, user, self.sealer.open(sealed))
        return _connector(source).read(account, progress), source.plan_id

    def _keep(self, source_id: int, discovery: int, plan_id: int, inventory: Inventory) -> int:
        """Write what was found, all in one transaction; returns how many differences are open."""

        def keep(db: Session) -> int:
            plan = self.planning.plan(inbox.lock_plan(db, plan_id))
            found = differences(plan, inventory)
            opened = inbox.note_differences(db, source_id, plan_id, found)
            standing_rules.follow_standing_rules(
                db, plan_id, opened, self.planning.plan, self.planning.today
            )
            read = len(inventory.hosts) + len(inventory.datastores) + len(inventory.machines)
            sources.note_progress(db, discovery, read, read)
            sources.end_discovery(db, discovery, "done", "", len(opened))
            return len(opened)

        return self.planning.write(keep)

    # --- intervals ------------------------------------------------------------------------

    def watch(self) -> Thread:
        """Read sources whenever their interval has passed, in the background."""

        def look() -> None:
            self.planning.write(lambda db: sources.interrupt_discoveries(db))
            while True:
                try:
                    with self.planning.sessions() as db:
                        due = sources.due_sources(db, now_utc())
                    for ident in due:
                        self._start_if_free(ident)
                except Exception:
                    log.exception("looking for sources that are due")
                if self._stopped.wait(LOOKED_AT_EVERY_S):
                    return

        thread = Thread(target=look, name="intervals", daemon=True)
        thread.start()
        return thread

    def _start_if_free(self, source_id: int) -> None:
        try:
            self.start(source_id, actor="interval")
        except (EstateError, LookupError):
            log.info("source %s is being read already, or gone", source_id)

    def stop(self) -> None:
        """End the watch, and all discoveries without a result."""
        self._stopped.set()
        with self._lock:
            for unwanted in self._unwanted.values():
                unwanted.set()
        self._pool.shutdown(wait=True, cancel_futures=True)


def _connector(source: sources.Source) -> Connector:
    place = Place(source.name, source.address, source.site, source.kind)  # type: ignore[arg-type]
    return MAKES[source.make](place)
