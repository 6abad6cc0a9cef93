"""Prices and dates, worked by hand from the shipped price sheets."""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from decimal import Decimal

import msgspec
import pytest

from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design
from zesty_trace.core.ordering.days import WEEKDAYS
from zesty_trace.core.ordering.houses import load_houses, read_house
from zesty_trace.core.ordering.judging import order_findings
from zesty_trace.core.ordering.money import Money, money
from zesty_trace.core.ordering.quote import (
    Order,
    board_price,
    cheapest,
    order_of,
    quote,
    soonest,
)
from zesty_trace.core.ordering.reasons import Question
from zesty_trace.errors import InputError

WEDNESDAY = date(2026, 11, 25)
TWELVE = Order(12, 80.0, 56.0, 2, "green", "frameless")
HOUSES = {h.name: h for h in load_houses()}


@pytest.mark.parametrize(
    ("house", "order", "boards", "price"),
    [
        pytest.param("Lantern Boards", TWELVE, 20, 4.0 + 9.5, id="12-take-the-20-step"),
        pytest.param("Lantern Boards", replace(TWELVE, quantity=5), 5, 4.0 + 2.0, id="5-promotional"),
        pytest.param("Lantern Boards", replace(TWELVE, quantity=10), 10, 4.0 + 2.0, id="10-cost-what-5-cost"),
        pytest.param("Lantern Boards", replace(TWELVE, width_mm=101.0), 20, 4.0 + 38.0, id="1-mm-over-the-size-step"),
        pytest.param("Lantern Boards", replace(TWELVE, layers=4), 20, 4.0 + 9.5 * 3.2, id="four-layers"),
        pytest.param("Lantern Boards", replace(TWELVE, layers=1), 20, 4.0 + 9.5, id="one-layer-costs-as-two"),
        pytest.param("Quay Circuits", TWELVE, 25, 18.0 + 82.0, id="turned-to-fit-80x60"),
        pytest.param("Quay Circuits", replace(TWELVE, width_mm=56.0, height_mm=80.0), 25, 100.0, id="portrait-too"),
        pytest.param("Quay Circuits", replace(TWELVE, colour="black"), 25, 18.0 + 82.0 + 8.0, id="colour-costs"),
    ],
)
def test_board_price_worked_by_hand(house: str, order: Order, boards: int, price: float) -> None:
    assert board_price(HOUSES[house], order) == (boards, money(round(price, 2)))


@pytest.mark.parametrize(
    "order",
    [
        replace(TWELVE, quantity=500),
        replace(TWELVE, width_mm=900.0),
        replace(TWELVE, colour="pink"),
        replace(TWELVE, layers=6),
    ],
)
def test_what_a_house_does_not_make_has_no_price(order: Order) -> None:
    assert board_price(HOUSES["Lantern Boards"], order) is None


@pytest.mark.parametrize(
    ("days", "expected"),
    [(0, WEDNESDAY), (1, date(2026, 11, 26)), (2, date(2026, 11, 27)), (3, date(2026, 11, 30)), (8, date(2026, 12, 7))],
)
def test_working_days_skip_the_weekend(days: int, expected: date) -> None:
    assert WEEKDAYS.after(WEDNESDAY, days) == expected


def test_colour_adds_two_days_and_stencil_its_own() -> None:
    def first(order: Order) -> date:
        offers = quote([HOUSES["Lantern Boards"]], order, WEDNESDAY, None, 0)
        return min(o.arrives for o in offers if o.speed == "standard")

    assert first(TWELVE) == date(2026, 12, 4)  # 3 working days: Mon 30 Nov, express 4 days
    assert first(replace(TWELVE, colour="blue")) == date(2026, 12, 7)  # 5: Wed 2 Dec, and 4: a Sunday


def test_cheapest_is_the_cheapest_in_time_and_soonest_the_first_here() -> None:
    offers = quote(list(HOUSES.values()), TWELVE, WEDNESDAY, date(2026, 12, 25), 420.0)
    assert offers == sorted(offers, key=lambda o: (o.total.amount, o.arrives))
    best, first = cheapest(offers), soonest(offers)
    assert (best.house, best.freight, best.total) == ("Lantern Boards", "post", money("27.0"))
    assert (first.house, first.freight) == ("Quay Circuits", "parcel")  # as soon as the courier, and cheaper
    assert not next(o for o in offers if o.freight == "sea post").on_time


def test_late_and_dear_orders_are_findings(demo: Design) -> None:
    order = order_of(demo)
    assert (order.quantity, order.width_mm, order.height_mm) == (12, 80.0, 56.0)
    rushed = edits.set_brief(demo, needed_by="2026-11-26", budget_eur=5.0)
    offers = quote(list(HOUSES.values()), order, WEDNESDAY, date(2026, 11, 26), 5.0)
    assert {f.key for f in order_findings(rushed, offers)} == {"late", "budget", "step"}
    assert {f.key for f in order_findings(rushed, [])} == {"no offer"}


def test_own_price_sheet_replaces_a_shipped_one(tmp_path) -> None:
    from importlib.resources import files

    text = (files("zesty_trace") / "data" / "houses" / "quay.toml").read_text("utf-8")
    (tmp_path / "houses").mkdir()
    (tmp_path / "houses" / "quay.toml").write_text(text.replace("setup = 18.0", "setup = 1.0"))
    houses = {h.name: h for h in load_houses(tmp_path)}
    assert houses["Quay Circuits"].setup == 1.0
    assert len(houses) == 3


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("setup = 18.0", 'setup = "much"', "setup"),
        ("quantities = [1, 5,", "quantities = [5, 1,", "rise"),
        ("per_batch = [16.0, ", "per_batch = [", "5 prices for 6"),
        ("[layers]", "[layers", "cannot be read"),
    ],
)
def test_damaged_price_sheet_says_what(old: str, new: str, words: str) -> None:
    from importlib.resources import files

    text = (files("zesty_trace") / "data" / "houses" / "quay.toml").read_text("utf-8")
    with pytest.raises(InputError, match=words) as caught:
        read_house(text.replace(old, new), "quay.toml")
    assert caught.value.where.startswith("quay.toml")


def test_two_currencies_are_never_compared_as_numbers() -> None:
    """663 JPY are about 4 EUR: as numbers 27 would be the smaller."""
    euro = HOUSES["Lantern Boards"]
    yen = msgspec.structs.replace(euro, name="Yen Boards", currency="JPY", setup=600.0)
    offers = quote([euro, yen], TWELVE, WEDNESDAY, None, 100.0)
    assert cheapest(offers).total.currency == "EUR"
    assert {o.in_budget for o in offers if o.total.currency == "JPY"} == {None}
    assert cheapest([o for o in offers if o.total.currency == "JPY"]).house == "Yen Boards"
    mixed = [replace(offers[0], total=Money(Decimal(1), c), compared=None) for c in ("JPY", "SEK")]
    assert cheapest(mixed) is None
    said = [f.title for f in order_findings(edits.set_brief(Design(), budget_eur=100.0), offers)]
    assert any("Prices in JPY are not held against the budget" in t for t in said)
    with pytest.raises(InputError, match="cannot be compared"):
        _ = money(27) < Money(Decimal(663), "JPY")
    with pytest.raises(InputError):
        _ = money(27) + Money(Decimal(663), "JPY")
    assert money(0.1) + money(0.2) == money("0.3")


@pytest.mark.parametrize(
    ("width", "height", "made"), [(80, 40, False), (40, 50, True), (50, 50, True), (51, 10, False)]
)
def test_a_house_offers_no_board_larger_than_it_makes(width: float, height: float, made: bool) -> None:
    small = msgspec.structs.replace(HOUSES["Lantern Boards"], max_width_mm=50.0, max_height_mm=50.0)
    order = replace(TWELVE, width_mm=width, height_mm=height)
    assert (board_price(small, order) is not None) is made
    assert bool(quote([small], order, WEDNESDAY, None, 0.0)) is made


def test_every_colour_finish_and_stencil_is_priced_as_if_it_were_asked_for() -> None:
    order = Order(12, 80.0, 56.0, 2, "green", "frameless")
    question = Question(tuple(load_houses()), order, date(2026, 11, 27), date(2026, 12, 18))
    every = question.every_offer()
    assert [o.amount for o in every] == sorted(o.amount for o in every)
    asked = {(o.order.colour, o.order.finish, o.order.stencil) for o in every}
    assert {c for c, _, _ in asked} == {c for h in question.houses for c in h.colours}
    assert {s for _, _, s in asked} == {"frameless", "framed"}
    for colour, finish, stencil in asked:
        singly = question.offers(replace(order, colour=colour, finish=finish, stencil=stencil))
        mine = [o for o in every if (o.order.colour, o.order.finish, o.order.stencil) == (colour, finish, stencil)]
        assert {(o.how, o.total, o.arrives) for o in singly} == {(o.how, o.total, o.arrives) for o in mine}
