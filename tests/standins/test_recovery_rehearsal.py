"""A recovery in the stand-in's world: other rates, its progress, and forecast anew on the way."""

from datetime import date

import pytest
from estates import larkmoor_plan

from gambrel.core.nights.nights import night_of
from gambrel.core.recovery.coming_back import Way, recover
from gambrel.core.recovery.loss import Loss
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import HOUR
from gambrel.standins.recovery_rehearsal import rehearse_recovery

NIGHT = night_of(date(2026, 11, 6), "Europe/Dublin")
AT = NIGHT.start + 14 * HOUR


@pytest.fixture(scope="module", params=[False, True], ids=["alone", "others go on"])
def recovery(request):
    plan = larkmoor_plan()
    first = night_of(date(2026, 11, 2), "Europe/Dublin").start
    points = list(simulate(plan, first, NIGHT.end).history.at(AT))
    way = Way(at_once=4, goes_on=request.param)
    return recover(plan, points, Loss(AT, clusters=("quay-a",)), way)


def test_at_its_end_all_are_whole_and_other_than_planned(recovery):
    went = rehearse_recovery(recovery, 1, NIGHT.date, None)
    assert {each.stage for each in went.machines} == {"whole"}
    assert all(each.foreseen == each.rehearsed for each in went.machines)
    assert max(e.rehearsed for e in went.machines) > max(e.planned for e in went.machines)
    assert rehearse_recovery(recovery, 1, NIGHT.date, None) == went
    assert rehearse_recovery(recovery, 2, NIGHT.date, None) != went


def test_at_the_loss_the_forecast_is_the_plan(recovery):
    went = rehearse_recovery(recovery, 1, NIGHT.date, AT)
    for each in went.machines:
        assert each.foreseen == pytest.approx(each.planned, abs=1.0)
        assert each.part == 0.0 and each.stage in ("waits", "set up")


def test_on_the_way_what_is_back_stays_and_the_rest_is_forecast_anew(recovery):
    whole = rehearse_recovery(recovery, 1, NIGHT.date, None)
    look = AT + (whole.ends - AT) / 2
    went = rehearse_recovery(recovery, 1, NIGHT.date, look)
    stages = {each.stage for each in went.machines}
    assert {"whole", "written", "waits"} <= stages
    for each in went.machines:
        if each.stage in ("whole", "back"):
            assert each.foreseen == each.rehearsed <= look + 1
        else:
            assert each.foreseen >= look
        assert 0.0 <= each.part <= 1.0
    # The nearer the end, the nearer to what comes.
    late = rehearse_recovery(recovery, 1, NIGHT.date, AT + (whole.ends - AT) * 0.95)

    def off(one):
        return sum(abs(e.foreseen - e.rehearsed) for e in one.machines)

    assert off(late) < off(went)


def test_an_instant_beyond_it_is_brought_into_it(recovery):
    for at in (AT - 100 * HOUR, AT + 1000 * HOUR):
        went = rehearse_recovery(recovery, 1, NIGHT.date, at)
        assert AT <= went.at <= went.ends
