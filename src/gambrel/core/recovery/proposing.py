"""Better ways back: other orders, more at once, instant starts, other targets, each simulated."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from time import monotonic

from gambrel.core.loads.lanes import TIERS, tier_of
from gambrel.core.plan.objects import Machine, Plan
from gambrel.core.recovery.coming_back import Recovery, Way, used_gib
from gambrel.core.simulation.turns import stop_if_unwanted
from gambrel.core.words import count

AT_ONCE = (4, 8, 16, 32)
MOST_SECONDS = 8.0
"""How long is looked for better ways."""
PART_FOR_ORDERS = 0.4
"""The part of it that is given to other orders with as many at once, to the same targets."""
MOST_STEPS = 400
SAME_SCORE = 1e-6


@dataclass(frozen=True, slots=True)
class Proposal:
    """A way that is better than the one in hand, with what it brings.

    Attributes:
        words: what is done differently.
    """

    words: str
    recovery: Recovery


def orders(machines: Iterable[Machine]) -> Iterator[tuple[str, tuple[str, ...]]]:
    """Orders that are tried, each with its name."""
    lost = list(machines)
    never = float("inf")

    def promised(machine: Machine) -> float:
        return never if machine.rto_hours is None else machine.rto_hours

    def tier(machine: Machine) -> int:
        return (*TIERS, tier_of(machine)).index(tier_of(machine))

    keys: tuple[tuple[str, Callable[[Machine], tuple[object, ...]]], ...] = (
        ("by promised time, the smaller first", lambda m: (promised(m), used_gib(m), m.id)),
        ("by tier, the smaller first", lambda m: (tier(m), used_gib(m), m.id)),
        ("by promised time, the larger first", lambda m: (promised(m), -used_gib(m), m.id)),
        ("the smaller first", lambda m: (used_gib(m), m.id)),
    )
    for words, key in keys:
        yield words, tuple(machine.id for machine in sorted(lost, key=key))


def proposals(
    plan: Plan,
    now: Recovery,
    play: Callable[[Way], Recovery],
    *,
    within_s: float = MOST_SECONDS,
    clock: Callable[[], float] = monotonic,
) -> list[Proposal]:
    """Ways that are better than one in hand, the best first; none that only differs.

    Args:
        play: simulates a way for the loss of `now`.
    """
    ends = clock() + within_s
    search = _Search(now, play, clock, ends)
    machines = now.lost.machines
    for words, order in orders(machines):
        search.attempt(f"Order {words}", replace(now.way, order=order))
    search.improve(clock() + within_s * PART_FOR_ORDERS)
    ordered = search.best
    for number in (*AT_ONCE, None):
        if number != now.way.at_once:
            said = "As many at once as come" if number is None else f"{number} at once"
            search.attempt(said, replace(now.way, at_once=number))
            search.attempt(
                _both(ordered.words, said), replace(ordered.recovery.way, at_once=number)
            )
    for site in plan.sites:
        left = any(h.site == site.id and h.id not in now.lost.hosts for h in plan.hosts)
        if left and site.id not in (now.way.to_site, *now.lost.sites) and now.lost.hosts:
            said = f"To the hosts of {site.name}"
            search.attempt(said, replace(now.way, to_site=site.id))
    best = search.best
    late = [row for row in best.recovery.late if row.method == "full" and row.back is not None]
    if late:
        instant = best.recovery.way.instant | {row.machine for row in late}
        search.attempt(
            _both(best.words, f"instant start for {count(len(late), 'machine')}"),
            replace(best.recovery.way, instant=instant),
        )
        if best.recovery is not now:
            search.attempt(
                f"Instant start for {count(len(now.late), 'machine')}",
                replace(now.way, instant=now.way.instant | {row.machine for row in now.late}),
            )
    search.improve(ends)
    found = [each for each in search.found if _better(each.recovery, now)]
    # Of ways that come to the same, the one that was thought of first asks for least.
    distinct: dict[tuple[float, ...], Proposal] = {}
    for each in found:
        distinct.setdefault(tuple(round(part, 4) for part in each.recovery.score), each)
    return sorted(distinct.values(), key=lambda each: each.recovery.score)


def _both(words: str, more: str) -> str:
    if not words:
        return more[:1].upper() + more[1:]
    return f"{words}, {more[:1].lower()}{more[1:]}"


def _better(one: Recovery, other: Recovery) -> bool:
    for a, b in zip(one.score, other.score, strict=True):
        if abs(a - b) > SAME_SCORE:
            return a < b
    return False


class _Search:
    def __init__(
        self,
        now: Recovery,
        play: Callable[[Way], Recovery],
        clock: Callable[[], float],
        ends: float,
    ) -> None:
        self.play = play
        self.clock = clock
        self.ends = ends
        self.found: list[Proposal] = []
        self.best = Proposal("", now)

    def attempt(self, words: str, way: Way) -> None:
        """Simulate a way and keep it, where there is time left."""
        stop_if_unwanted()
        if self.clock() >= self.ends or any(way == each.recovery.way for each in self.found):
            return
        made = Proposal(words, self.play(way))
        self.found.append(made)
        if _better(made.recovery, self.best.recovery):
            self.best = made

    def improve(self, until: float) -> None:
        """Let machines that are late go before others, one after the other, while it helps."""
        best, steps = self.best, 0
        begun_with = best
        moved = True
        while moved and self.clock() < until and steps < MOST_STEPS:
            moved = False
            order = [row.machine for row in best.recovery.rows]
            late = [row.machine for row in best.recovery.late if row.back is not None]
            for machine in late:
                place = order.index(machine)
                for to in {0, place // 2, place - 1} - {place, -1}:
                    if self.clock() >= until or steps >= MOST_STEPS:
                        break
                    stop_if_unwanted()
                    steps += 1
                    other = order.copy()
                    other.insert(to, other.pop(place))
                    way = replace(best.recovery.way, order=tuple(other))
                    recovery = self.play(way)
                    if _better(recovery, best.recovery):
                        best, moved = Proposal("", recovery), True
                        break
                if moved:
                    break
        if best.recovery is not begun_with.recovery:
            words = _both(begun_with.words, "an order found machine by machine")
            self.found.append(Proposal(words, best.recovery))
            self.best = self.found[-1]
