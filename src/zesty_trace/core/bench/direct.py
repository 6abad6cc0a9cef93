"""A bench without a wire between: the plan run straight on a simulated board, for the fault campaign."""

from __future__ import annotations

from zesty_trace.core.bench.plan import BenchPlan, BenchStep, Inlet
from zesty_trace.core.bench.simulated import SimulatedBoard


class DirectBench:
    """Instruments on one simulated board."""

    def __init__(self, board: SimulatedBoard, plan: BenchPlan | None = None) -> None:
        self.board = board
        self.was_powered = False
        if plan:
            steps = [s for s in plan.steps if s.kind == "resistance" and not s.press]
            board.look_up([(s.net, s.other or plan.ground) for s in steps])

    def select_board(self, serial: str) -> None:
        """The board is there already."""

    def prepare(self, words: tuple[str, ...]) -> None:
        """Simulated boards are set up as asked."""

    def resistance(self, step: BenchStep, a: str, b: str) -> float:
        """Ohms between two nets."""
        self.board.pressed = step.press
        try:
            return self.board.resistance(a, b)
        finally:
            self.board.pressed = ""

    def voltage(self, step: BenchStep, a: str, b: str) -> float:
        """Volts between two nets."""
        return self.board.voltage(a, b)

    def power_on(self, step: BenchStep) -> None:
        """Switch the supply on."""
        self.was_powered = True
        self.board.plug_into(step.feed)
        self.board.power(step.volt, step.limit_a)
        self._step = step

    def supply_reading(self) -> tuple[float, float]:
        """Volts and amperes."""
        return self.board.supply_v, self.board.supply_a

    def power_off(self, inlets: tuple[Inlet, ...] = (), ground: str = "") -> str:
        """Switch the supply off."""
        self.board.power_off()
        self.board.switch(frozenset(), False)
        return ""

    def switch(self, step: BenchStep) -> None:
        """Switch outputs and lights."""
        self.board.switch(frozenset(step.drive), step.lit)
        self.board.power(step.volt, step.limit_a)

    def bus_answers(self) -> list[int]:
        """Addresses that answer."""
        return self.board.bus_answers()

    def lights(self) -> int:
        """How many lights shine."""
        return self.board.shining()

    def answers(self, ref: str) -> bool:
        """Whether a controller or a device answers."""
        return self.board.answers(ref)
