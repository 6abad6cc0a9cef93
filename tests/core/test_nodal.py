"""Every state of every design of the corpus, solved once more by tests/nodal.py: no voltage is more than 0.5 % off."""

from __future__ import annotations

import pytest

from tests.corpus import cases
from tests.nodal import Nodal
from zesty_trace.core.circuit.analysis import analyse

HELD_S = 1e-6  # a net held more weakly than by 1 MΩ is fed by nothing
KNEE_V = 0.005  # sharp laws beside rounded ones
DEAD_V = 0.05  # a rail that nothing feeds is at zero, give or take what loads are said to take there
FEWEST_COMPARED = 0.6  # nets of a header alone hang on leakage and are left out


@pytest.mark.parametrize("prototype", cases.prototypes(), ids=lambda p: p.name)
def test_the_solver_agrees_with_plain_nodal_analysis(prototype: cases.Prototype) -> None:
    wired = cases.faultless(prototype)
    compared = skipped = 0
    for operating in analyse(wired).all():
        ours = dict(operating.net_voltages())
        nodal = Nodal(wired, operating.state)
        theirs, held = nodal.solve(ours), nodal.hold(ours)
        for net, volt in theirs.items():
            if net not in wired.design.nets:
                continue  # a pin that is wired to nothing
            if abs(ours[net]) < 0.5 and held[net] < HELD_S:
                skipped += 1
                continue
            compared += 1
            assert ours[net] == pytest.approx(volt, rel=0.005, abs=KNEE_V if abs(ours[net]) > DEAD_V else DEAD_V), (
                operating.state.name,
                net,
            )
    assert compared > FEWEST_COMPARED * (compared + skipped)


def test_it_would_see_a_wrong_solution() -> None:
    """The check itself: a resistor ten times too large in one of the two designs is far outside of the bounds."""
    prototype = next(p for p in cases.prototypes() if p.name == "divider adc")
    mistake = next(x for x in prototype.mistakes if any("=" in s for s in x.say))
    right, wrong = cases.faultless(prototype), cases.broken(prototype, mistake)
    state = analyse(right).states[-1]
    ours = dict(analyse(right).operating(state).net_voltages())
    theirs = Nodal(wrong, state).solve(ours)
    assert max(abs(ours[n] - v) for n, v in theirs.items() if n in ours) > 0.1
