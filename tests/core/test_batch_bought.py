"""What surrounds a purchase: strips or pieces, what is on the way, what waits, what else there is, own figures."""

from __future__ import annotations

import itertools
import random
from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal
from pathlib import Path

import pytest

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design
from zesty_trace.core.ordering.days import read_closed, say_closed
from zesty_trace.core.ordering.labour import seconds_of
from zesty_trace.core.ordering.maker import Own, maker_toml, read_maker, read_pace
from zesty_trace.core.ordering.money import money
from zesty_trace.core.ordering.ordered import BoardOrders, BoardsOrdered, ordered_from, ordered_toml, read_ordered
from zesty_trace.core.ordering.parts.buying import buy
from zesty_trace.core.ordering.parts.headers import Form, cut, cuttings, form_of
from zesty_trace.core.ordering.parts.need import LOSSES, Loss, Need, losses_csv, read_losses
from zesty_trace.core.ordering.parts.programme import Market
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.core.ordering.parts.stock import Drawer
from zesty_trace.core.ordering.parts.suppliers import Parcel, PartOffer, Supplier
from zesty_trace.core.ordering.parts.waiting import alternates, short_pieces, waiting
from zesty_trace.core.ordering.schedule import Maker
from zesty_trace.errors import InputError
from zesty_trace.journey.buying import (
    coming_to,
    cut_now,
    load_stock,
    market_of,
    place_orders,
    spent_on_orders,
    unpack,
    withdraw,
)
from zesty_trace.journey.demos import create_demo
from zesty_trace.journey.kinds import project_catalogue
from zesty_trace.journey.ordering import ask_houses, change_ordered, load_ordered, step_of_boards, take_boards
from zesty_trace.journey.scheduling import plan_of
from zesty_trace.journey.together import spent

TODAY = date(2026, 11, 27)  # a Friday
FOUR, THREE = Sort("header_4", "", "Header-1x4"), Sort("header_3", "", "Header-1x3")
FORTY = Sort("header_40", "", "Header-1x40")


def pieces(sort: Sort, count: int, word: str = "header") -> Need:
    return Need(sort, "Header", ("J1",), count, 0, 0, strip=word)


def sold(number: str, sort: Sort, price: str, **more: object) -> PartOffer:
    return PartOffer(number, sort, ((1, Decimal(price)),), **more)  # type: ignore[arg-type]


def shop(*offers: PartOffer, cost: str = "4.00", days: int = 2, name: str = "S") -> Supplier:
    return Supplier(name, "EUR", (Parcel("post", days, Decimal(cost)),), offers)


def two_suppliers(tmp_path: Path) -> tuple[Path, Design, Wired]:
    """Return the demo with two of its suppliers: they do, and are quick."""
    folder = tmp_path / "p"
    design = create_demo(folder, TODAY)
    for name in ("saltmarsh", "harbour"):
        (folder / "suppliers" / f"{name}.toml").unlink()
    return folder, design, Wired(design, project_catalogue(folder))


# Strips ---------------------------------------------------------------------------------------------------------------


def test_strips_are_bought_where_they_cost_less_than_pieces_and_never_both() -> None:
    r = random.Random(3)
    both = set()
    for _ in range(40):
        needs = (pieces(FOUR, r.randint(1, 25)), pieces(THREE, r.randint(1, 25)))
        prices = {s: Decimal(r.randint(2, 40)) / 100 for s in (FOUR, THREE)}
        strip = Decimal(r.randint(30, 300)) / 100
        supplier = shop(*(sold(s.kind, s, str(p)) for s, p in prices.items()), sold("strip", FORTY, str(strip)))
        found = cuttings(needs, [], [o.sort for o in supplier.offers])
        plan = buy(Market(needs, (supplier,), TODAY, cut=tuple(found)))
        by_piece = sum(prices[n.sort] * n.buy for n in needs)
        fewest = next(k for k in range(1, 9) if _fits([4] * needs[0].buy + [3] * needs[1].buy, k))
        assert plan.total.amount == min(by_piece, strip * fewest) + 4
        kinds = {b.offer.sort for b in plan.lines}
        assert kinds == ({FORTY} if strip * fewest < by_piece else {FOUR, THREE}) or strip * fewest == by_piece
        both |= kinds
        assert (FORTY in kinds) == bool(plan.cut)
    assert both == {FORTY, FOUR, THREE}


def _fits(lengths: list[int], strips: int) -> bool:
    """Whether pieces fit on so many strips of 40, nothing lost: by counting fours on each strip."""
    fours, threes = lengths.count(4), lengths.count(3)
    for counts in itertools.combinations_with_replacement(range(11), strips):
        if sum(counts) >= fours and sum((40 - 4 * c) // 3 for c in counts) >= threes:
            return True
    return False


def test_what_is_left_of_strips_is_cut_first_and_goes_back_into_the_drawers() -> None:
    drawers = [Drawer(FORTY, 1, "box"), Drawer(Sort("header_9", "", "Header-1x9"), 1), Drawer(FOUR, 2)]
    needs = [replace(pieces(FOUR, 6), drawers=((drawers[2], 2),)), pieces(THREE, 5)]
    (found,) = cuttings(needs, drawers[:2])
    assert found.plan.bought == 0
    after = {d.sort: d.count for d in cut(drawers, [found]) if d.count}
    assert (after[FOUR], after[THREE]) == (6, 5)
    whole = {d.sort: d.count for d in drawers}
    assert _positions(after) == _positions(whole)  # a pin header loses nothing
    (short,) = cuttings([pieces(FOUR, 30)], drawers)
    assert short.plan.bought == 2  # ten fours on each: 10 on the strip that is there, 20 on two that are bought
    with pytest.raises(InputError, match="must come first"):
        cut(drawers, [short])
    assert [k for _, k in short.there] == [14]  # 10 on the 40, 2 on the 9, and the two fours
    nobody_sells_strips = shop(sold("four", FOUR, "0.10"))
    market = Market(tuple(n for n, _ in short.pieces), (nobody_sells_strips,), TODAY, cut=(short,))
    plan = buy(market)
    assert [b.count for b in plan.lines] == [16]  # what strips in the drawers yield is not bought
    assert plan.cut[0].words == "cut into 14 of 4"


def _positions(found: dict[Sort, int]) -> int:
    return sum(form_of(s).positions * n for s, n in found.items())  # type: ignore[union-attr]


def test_only_headers_and_sockets_are_cut_and_each_from_its_own_strip(catalogue) -> None:
    kinds = catalogue.kinds
    for kind in ("header_6", "header_2x5", "jumper", "program_header"):
        assert kinds[kind].facts.strip == "header", kind
    assert kinds["socket_8"].facts.strip == kinds["socket_4"].facts.strip == "socket"
    for kind in ("card_socket", "slide_switch", "character_display", "chip_socket_8", "resistor"):
        assert not kinds[kind].facts.strip, kind
    assert form_of(Sort("header_2x17", "", "Header-2x17")) == Form("header", 2, 17)
    assert form_of(Form("socket", 2, 40).sort) == Form("socket", 2, 40)
    assert form_of(Sort("chip_socket_8", "", "DIP-8")) is None
    two = cuttings([pieces(FOUR, 3), pieces(Sort("socket_4", "", "Header-1x4"), 9, "socket")], [])
    assert [(c.strip.sort.kind, c.plan.bought, c.plan.best) for c in two] == [
        ("header_40", 1, True), ("socket_40", 2, True),  # 8 sockets of 4 take 8 x 5 of 41 positions, the ninth another
    ]  # fmt: skip


# Days -----------------------------------------------------------------------------------------------------------------


def test_the_soonest_is_planned_although_it_is_late_and_what_waits_is_said() -> None:
    led, chip = Sort("led", "red", "LED0603"), Sort("timer", "", "SOIC-8")
    slow = shop(sold("L", led, "0.10"), sold("C", chip, "2.00", lead_days=5), days=3)
    needs = (
        Need(led, "LED", ("D1",), 20, 0, 0, by_board=(("A", 1), ("B", 2))),
        Need(chip, "Timer", ("U1",), 6, 0, 0, by_board=(("B", 1),)),
    )
    market = Market(needs, (slow,), TODAY, date(2026, 12, 1))
    cheapest, soonest = buy(market), buy(market, "soonest")
    assert [(n.sort, c) for n, c in cheapest.short] == [(chip, 6)]
    assert (soonest.short, soonest.arrives, soonest.late_days) == ((), date(2026, 12, 7), 6)
    found = waiting({"A": 8, "B": 6}, needs, cheapest.short)
    assert found.built == {"A": 8, "B": 0}
    assert found.words == "Can be built: 8 of 8 A; 0 of 6 B, 6 wait for 6 x timer SOIC-8"
    (late,) = alternates(market, needs[1])
    assert late.condition == "the same, here Mon 07 Dec: 6 days after it is wanted"


def test_as_many_boards_are_built_as_any_choice_allows() -> None:
    r = random.Random(5)
    for _ in range(60):
        batch = {"A": r.randint(0, 6), "B": r.randint(0, 6), "C": r.randint(0, 4)}
        needs = []
        for k in range(3):
            use = tuple((v, r.randint(0, 3)) for v in batch)
            needs.append(
                Need(Sort(f"k{k}"), "", (), sum(batch[v] * n for v, n in use), 0, r.randint(0, 2), by_board=use)
            )
        short = [(n, r.randint(1, n.wanted)) for n in needs if n.wanted and r.random() < 0.7]
        found = waiting(batch, needs, short)
        have = {n.sort: n.wanted - count for n, count in short}
        best = max(
            sum(chosen)
            for chosen in itertools.product(*(range(count + 1) for count in batch.values()))
            if all(sum(c * dict(n.by_board)[v] for c, v in zip(chosen, batch, strict=True)) <= have[n.sort]
                   for n, _ in short)
        )  # fmt: skip
        assert sum(found.built.values()) == best


def test_what_else_there_is_comes_with_its_condition_the_nearest_first() -> None:
    need = Need(Sort("resistor", "10k 1%", "R0603"), "Resistor", ("R1",), 20, 0, 0)
    offers = (
        sold("A", Sort("resistor", "10k 5%", "R0603"), "0.01"), sold("B", Sort("resistor", "12k 1%", "R0603"), "0.01"),
        sold("C", Sort("resistor", "10k 1%", "R0805"), "0.01"), sold("D", need.sort, "0.01", stock=3),
        sold("E", Sort("capacitor", "10n", "R0603"), "0.01"),
    )  # fmt: skip
    market = Market((need,), (shop(*offers), Supplier("T", "USD", shop().parcels, (offers[3],))), TODAY)
    found = alternates(market, need, [Drawer(Sort("resistor", "11k 1%", "R0603"), 50, "tray 3")])
    said = [(a.sort.value, a.where, a.condition) for a in found]
    assert said[0] == ("10k 1%", "S", "the same, 3 in stock")
    assert said[1] == ("10k 1%", "T", "the same, but no rate for USD is known")
    assert ("10k 5%", "S", "rated less, or its rating is not said") in said
    assert ("11k 1%", "50 in tray 3", "+10 % in value: see what the circuit does with it") in said
    assert any(c.startswith("another package (R0805)") for _, _, c in said)
    assert all(a.sort.kind == "resistor" for a in found)
    exact = alternates(market, replace(need, exact=True))
    assert {a.sort for a in exact} == {need.sort}


def test_a_line_that_saves_cents_is_not_opened_where_lines_have_a_price() -> None:
    sort = Sort("led", "red", "LED0603")
    many = shop(sold("M", sort, "0.10", multiple=10), cost="0.00", name="Many")
    ones = shop(sold("O", sort, "0.20"), cost="0.00", name="Ones")
    market = Market((Need(sort, "LED", (), 12, 0, 0),), (many, ones), TODAY)
    assert [(b.supplier, b.count) for b in buy(market).lines] == [("Many", 10), ("Ones", 2)]
    dearer = buy(replace(market, line_cost=Decimal("0.70")))
    assert [(b.supplier, b.count) for b in dearer.lines] == [("Many", 20)]
    assert dearer.total == money("2.00")  # what a line is worth is not paid


# Orders ---------------------------------------------------------------------------------------------------------------


@pytest.mark.campaign
def test_what_is_on_the_way_is_not_bought_again_and_what_came_short_is(tmp_path: Path) -> None:
    folder, _, wired = two_suppliers(tmp_path)
    market, _ = market_of(wired, folder, TODAY)
    plan = buy(market)
    offered = plan_of(wired, folder, TODAY, parts=plan)
    names = place_orders(plan, folder, TODAY)
    assert sum(d.count for d in coming_to(folder)) == sum(b.count for b in plan.lines)
    after = market_of(wired, folder, TODAY)[0]
    assert not any(n.buy for n in after.needs if not n.strip)
    assert not buy(after).lines
    whole = plan_of(wired, folder, TODAY, draws=0)
    parcels = {p.supplier: p.arrives for p in plan.parcels}
    kitting = whole.schedule.task("kitting")
    assert kitting.start >= max(parcels.values())  # kitting waits for what is on the way
    assert spent_on_orders(folder) == (plan.total.amount, [])
    bought_twice = plan_of(wired, folder, TODAY, draws=0, parts=plan)
    assert bought_twice.cost == whole.cost + plan.total  # type: ignore[operator]
    assert (whole.cost, spent(whole)) == (offered.cost, spent(offered))  # counted once, as offered or as ordered
    assert abs(plan_of(wired, folder, TODAY).schedule.likely - offered.schedule.likely) < 0.02  # nor is it surer
    assert place_orders(plan, folder, TODAY)[0] == names[0].replace(".csv", "-2.csv")
    for name in names:
        withdraw(folder, name.replace(".csv", "-2.csv"))
    from zesty_trace.core.ordering.parts.placed import Came

    lines = unpack(folder, names[0], [Came(1, plan.lines[0].count - 1)])
    assert (lines[0].short, lines[0].coming, lines[0].expected) == (1, 0, plan.parcels[0].arrives)
    assert spent_on_orders(folder)[0] == plan.total.amount
    with pytest.raises(InputError, match="has come already"):
        withdraw(folder, names[0])
    again = buy(market_of(wired, folder, TODAY)[0])
    assert [b.need.sort for b in again.lines] == [plan.lines[0].offer.sort]
    ignored = market_of(wired, folder, TODAY, ignore_orders=True)[0]
    assert sum(n.buy for n in ignored.needs) == sum(n.buy for n in market.needs) - plan.lines[0].count + 1
    assert load_stock(folder)
    with pytest.raises(InputError, match="must come first"):
        cut_now(wired, folder)


# Own figures ----------------------------------------------------------------------------------------------------------


def test_own_figures_are_written_and_read_back_the_same(tmp_path: Path) -> None:
    off = read_closed(["2026-12-24..2027-01-03", "2027-02-15"], "x")
    assert say_closed(off) == ["2026-12-24..2027-01-03", "2027-02-15"]
    own = Own(Maker((1.5, 0, 0, 0, 2, 8, 0), off, 12.5, 3), (("SOIC", 14.0),), 0.9, Decimal("0.25"))
    assert read_maker(maker_toml(own), "h") == own
    assert read_maker(maker_toml(Own()), "h") == Own()
    mine = (Loss("*0603", 8, 7), Loss("QFN-16", 20, 1))
    assert read_losses(losses_csv(mine), "l") == (*mine, *LOSSES)
    pace = read_pace("day,package,parts,seconds\n2026-11-01,R0603,10,80\n2026-11-02,R0603,30,400\n", "p")
    assert pace == (("R0603", 12.0),)
    assert seconds_of("R0603", (("*0603", 20.0), *pace)) == 12.0  # the whole name before a pattern
    assert seconds_of("C0603", (("*0603", 20.0), *pace)) == 20.0
    for row, words in (("x,R0603,1,1", "date"), (",R0603,0,1", "parts"), (",R0603,1,0", "seconds"), (",,1,1", "empty")):
        with pytest.raises(InputError, match=words):
            read_pace(f"day,package,parts,seconds\n{row}\n", "p")
    with pytest.raises(InputError, match="order_line_eur"):
        read_maker("order_line_eur = -1", "h")


def test_a_strip_that_is_short_leaves_all_its_pieces_short() -> None:
    needs = (pieces(FOUR, 12),)
    found = cuttings(needs, [], [FORTY])
    late = shop(sold("strip", FORTY, "0.50", lead_days=9))
    market = Market(needs, (late,), TODAY, TODAY + timedelta(days=3), cut=tuple(found))
    plan = buy(market)
    assert sum(n.buy for n, _ in short_pieces(plan.short, market.cut)) == 12
    assert not plan.lines


# Boards that were ordered ---------------------------------------------------------------------------------------------


@pytest.mark.campaign
def test_boards_that_were_ordered_are_waited_for_and_judged_by_their_day(tmp_path: Path) -> None:
    folder, design, wired = two_suppliers(tmp_path)
    asked = ask_houses(wired, TODAY, folder)
    assert asked.begin_by is not None
    plan = plan_of(wired, folder, TODAY)
    offer = next(o for o in asked.offers if o == plan.offer)
    take_boards(folder, ordered_from(offer, TODAY))
    (taken,) = load_ordered(folder)
    made = BoardsOrdered(offer.how, offer.boards, offer.total, TODAY, offer.ships, offer.arrives)
    assert taken == replace(made, number=1, history=((TODAY, "ordered"),))
    after = plan_of(wired, folder, TODAY)
    assert (after.schedule.ready, after.cost, after.offer) == (plan.schedule.ready, plan.cost, None)
    assert after.schedule.likely == plan.schedule.likely  # an order makes nothing surer
    assert spent(after) == spent(plan)
    assert not [n for n in after.notes if "No house" in n]
    later = plan_of(wired, folder, offer.arrives + timedelta(days=3), draws=0)
    assert any("were expected" in n for n in later.notes)
    assert not ask_houses(wired, TODAY, folder).findings(design)
    for day, words in (
        (asked.begin_by + timedelta(days=2), "come 2 days too late to build them"),
        (asked.question.needed_by + timedelta(days=1), "come 1 days late"),
    ):
        change_ordered(folder, lambda _o, day=day: BoardOrders((replace(taken, expected=day),)))
        (found,) = ask_houses(wired, TODAY, folder).findings(design)
        assert words in found.title
    far = replace(taken, expected=TODAY + timedelta(days=99))
    change_ordered(folder, lambda _o: BoardOrders((far,)).after(None, TODAY, "here"))
    assert not ask_houses(wired, TODAY, folder).findings(design)
    assert plan_of(wired, folder, TODAY, draws=0).schedule.task("boards").end == TODAY
    unclear = edits.set_brief(design, needed_by="next friday")
    (found,) = ask_houses(wired.with_design(unclear), TODAY, folder).findings(unclear)
    assert "is not understood" in found.title
    step_of_boards(folder, None, TODAY, "undone")  # they are not here after all
    step_of_boards(folder, 1, TODAY, "withdrawn")
    assert not load_ordered(folder)
    assert [s for _, s in load_ordered(folder).orders[0].history] == ["ordered", "here", "undone", "withdrawn"]
    uneven = edits.set_build(design, batch={"Full": 3, "Basic": 4})
    said = ask_houses(wired.with_design(uneven), TODAY, folder).findings(uneven)
    assert "7 boards by variant, 12 in the brief" in [f.title for f in said]


def test_an_order_for_boards_is_read_back_and_mistakes_named() -> None:
    made = BoardsOrdered("Lantern Boards, post", 20, money("17.50"), TODAY, TODAY, date(2026, 12, 16), 2.5)
    boards = BoardOrders().with_order(made).with_order(made).after(2, TODAY, "here")
    text = ordered_toml(boards)
    assert read_ordered(text, "b") == boards
    for old, new, words in (
        ("boards = 20", "boards = 0", "boards"), ('"EUR"', '"eur"', "three letters"), ('"17.50"', '"nan"', "total"),
        ('"2026-12-16"', '"soon"', "order 1, expected"),
            (f"{TODAY} here", f"{TODAY} lost", "no step"), ("number = 2", "number = 1", "one number"),
        ("days_late = 2.5", "days_late = -1", "days_late"), ("[[orders]]", "[[order]]", "“order” is not"),
        ("how =", "who =", "not understood"),
    ):  # fmt: skip
        with pytest.raises(InputError, match="b") as error:
            read_ordered(text.replace(old, new), "b")
        assert words in str(error.value)


def test_suppliers_that_cannot_be_told_apart_are_left_out_and_named(tmp_path: Path) -> None:
    from zesty_trace.journey.buying import load_suppliers

    folder = tmp_path / "suppliers"
    folder.mkdir()
    head = 'name = "{}"\n[[freight]]\nname = "post"\ndays = 2\ncost = 3\n'
    offer = '[[offers]]\nnumber = "A"\nkind = "led"\nsteps = [[1, 0.1]]\n'
    (folder / "a.toml").write_text(head.format("One"))
    (folder / "b.toml").write_text(head.format("one"))
    (folder / "c.toml").write_text(head.format("Three") + offer)
    (folder / "c.csv").write_text("number,kind,steps\nA,led,1:0.2\n")
    (folder / "lost.csv").write_text("number,kind,steps\nA,led,1:0.2\n")
    found, wrong = load_suppliers(tmp_path)
    assert [s.name for s in found] == ["One"]
    said = " ".join(map(str, wrong))
    for words in ("two suppliers called one", "A is offered twice", "lost.csv: There is no supplier of this table"):
        assert words in said
