"""The true world of the stand-in: what really changes and how fast things really are.

It differs from the plan in ways that the plan does not know. Every number follows from a seed, the
name of the thing and the night, so that the same night is the same on every computer.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field, replace
from datetime import date
from math import exp
from random import Random

from gambrel.core.plan.objects import Machine, Plan, Transports

SPREAD_OF_CHANGE = 0.22
"""How much the change of machines differs from what the plan says (σ of a lognormal)."""
NOISE_OF_A_NIGHT = 0.12
"""How much a machine's change differs from night to night (σ of a lognormal)."""
NOISE_OF_RATES = 0.04
"""How much rates differ from night to night (σ of a lognormal)."""
BY_WEEKDAY = {
    "ticketing": (0.95, 0.95, 1.0, 1.05, 1.25, 1.35, 1.1),
    "freight": (1.15, 1.1, 1.05, 1.05, 1.1, 0.6, 0.5),
    "finance": (1.2, 1.1, 1.0, 1.0, 1.15, 0.4, 0.35),
    "office": (1.15, 1.15, 1.1, 1.1, 1.0, 0.3, 0.3),
}
"""Change by weekday, Monday first, of what lies in a folder."""
USUAL_WEEK = (1.05, 1.05, 1.05, 1.05, 1.0, 0.85, 0.85)
TREND_PER_DAY = {"cctv": 0.0030, "fleet": 0.0025}
"""Growth of the change per day, by folder."""
STREAMS = {"direct": 0.97, "hot_add": 0.94, "network": 0.90, "agent": 0.93}
"""What one stream really reaches of the ceiling in the plan."""
QUIESCING, BOOTING = 1.4, 1.15
"""How much longer it takes to quiesce, and to start a machine for a test, than the plan says."""
MOST_CHANGE = 0.9


def chance(*parts: object) -> Random:
    """A source of numbers that follows from some names."""
    said = "/".join(map(str, parts)).encode()
    return Random(int.from_bytes(hashlib.sha256(said).digest()[:8], "big"))


@dataclass(frozen=True, slots=True)
class TrueWorld:
    """How the world differs from a plan.

    Attributes:
        begins: the date on which trends are zero.
        wrong: factors on the change of machines whose stated change is far off, by id.
        reach: the part of the stated speed that streams and proxies reach, beside all else that
            differs: hardware is seldom as fast as its data sheet.
        by_chance: whether nights differ by chance too. Without it a night is what one would expect
            of it who knew all that lasts.
    """

    seed: int
    begins: date
    wrong: dict[str, float] = field(default_factory=dict)
    reach: float = 1.0
    by_chance: bool = True

    def _tonight(self, sigma: float, *parts: object) -> float:
        """A factor that differs from night to night."""
        return exp(chance(self.seed, *parts).gauss(0.0, sigma)) if self.by_chance else 1.0

    def change_factor(self, machine: Machine, night: date) -> float:
        """By what the true change of a machine in a night differs from the plan's."""
        folder = machine.folder.split("/")[0] if machine.folder else ""
        own = exp(chance(self.seed, "own", machine.id).gauss(0.0, SPREAD_OF_CHANGE))
        noise = self._tonight(NOISE_OF_A_NIGHT, "night", machine.id, night)
        week = BY_WEEKDAY.get(folder, USUAL_WEEK)[night.weekday()]
        trend = 1.0 + TREND_PER_DAY.get(folder, 0.0) * (night - self.begins).days
        return self.wrong.get(machine.id, 1.0) * own * noise * week * trend

    def plan_of(self, plan: Plan, night: date) -> Plan:
        """The plan with what is true in a night instead of what it says."""
        stream = self.reach * self._tonight(NOISE_OF_RATES, "rates", night)
        told = plan.transports
        return replace(
            plan,
            machines=tuple(
                replace(
                    machine,
                    daily_change=min(
                        MOST_CHANGE, machine.daily_change * self.change_factor(machine, night)
                    ),
                )
                for machine in plan.machines
            ),
            transports=Transports(
                told.direct_mib_per_s * STREAMS["direct"] * stream,
                told.hot_add_mib_per_s * STREAMS["hot_add"] * stream,
                told.network_mib_per_s * STREAMS["network"] * stream,
                told.agent_mib_per_s * STREAMS["agent"] * stream,
            ),
            jobs=tuple(
                replace(job, quiesce_s=job.quiesce_s * QUIESCING, boot_min=job.boot_min * BOOTING)
                for job in plan.jobs
            ),
            proxies=tuple(
                proxy
                if proxy.mib_per_s is None
                else replace(
                    proxy,
                    mib_per_s=proxy.mib_per_s
                    * 0.96
                    * self.reach
                    * self._tonight(NOISE_OF_RATES, "proxy", proxy.id, night),
                )
                for proxy in plan.proxies
            ),
        )
