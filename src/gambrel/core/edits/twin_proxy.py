"""One more proxy like one that is there."""

from __future__ import annotations

from dataclasses import replace

from gambrel.core.plan.objects import Plan, Proxy


def proxy_like(plan: Plan, ident: str) -> Proxy:
    """A proxy of the same kind and reach under a free name, not yet part of the plan.

    It runs where the first one runs, and is no machine of the estate.
    """
    proxy = next(proxy for proxy in plan.proxies if proxy.id == ident)
    taken = {other.id for other in plan.proxies}
    name = next(n for i in range(2, len(taken) + 3) if (n := f"{ident}-{i}") not in taken)
    return replace(
        proxy,
        id=name,
        on_machine=None,
        on_host=plan.host_of_proxy(proxy),
        direct_datastores=tuple(sorted(plan.direct_by_proxy[ident])),
        left_out_datastores=(),
    )
