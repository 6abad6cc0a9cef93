"""Random price sheets and orders: every offer against a plain recount in words of this file's own.

Sums are counted in whole coins, days one by one with the standard library's calendar, choices with plain loops.
"""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import Decimal
from fractions import Fraction
from typing import Any

import pytest

from zesty_trace.core.ordering.days import Calendar, calendar_of, read_closed, read_date, read_week
from zesty_trace.core.ordering.houses import House, read_house
from zesty_trace.core.ordering.money import Money, Rates, money, read_rates, rounded
from zesty_trace.core.ordering.quote import Order, cheapest, frontier, order_of, quote, refused, soonest
from zesty_trace.core.ordering.reasons import Question, reasons
from zesty_trace.errors import InputError

COLOURS = ("green", "blue", "red")
FINISHES = ("lead-free tin", "gold")


def a_sheet(r: random.Random) -> dict[str, Any]:
    """Return a made-up house as plain values."""
    quantities = sorted(r.sample([1, 2, 3, 5, 10, 15, 20, 25, 50, 100, 120, 500], r.randint(1, 6)))
    size, steps = 20, []
    for _ in range(r.randint(1, 4)):
        size += r.randint(5, 90)
        prices = [r.randint(0, 90_000) / 100 for _ in quantities]
        steps.append({"up": [size, size - r.randint(0, 15)], "prices": prices})
    freight = [
        {"name": f"way {k}", "days": r.randint(0, 30), "cost": r.randint(0, 6000) / 100, "working": r.random() < 0.3,
         "per_kg": r.choice([0, 0, r.randint(1, 900) / 100]), "up_to_kg": r.choice([0, 0, 0.2, 2])}
        for k in range(r.randint(1, 3))
    ]  # fmt: skip
    first = date(2026, 11, 1)
    return {
        "name": "House", "currency": r.choice(["EUR", "EUR", "EUR", "JPY", "SEK"]), "setup": r.randint(0, 3000) / 100,
        "days": r.randint(0, 12), "max": [r.randint(60, 400), r.randint(60, 400)], "quantities": quantities,
        "layers": {str(n): r.choice([1, 1, 1.5, 3.2]) for n in r.sample([1, 2, 4], r.randint(1, 3))},
        "steps": steps, "freight": freight,
        "colours": {c: [r.randint(0, 4), r.randint(0, 900) / 100] for c in r.sample(COLOURS, r.randint(1, 3))},
        "finishes": {c: [r.randint(0, 4), r.randint(0, 900) / 100] for c in r.sample(FINISHES, r.randint(1, 2))},
        "thickness": {"1.6": [0, 0], "0.8": [r.randint(0, 3), r.randint(0, 900) / 100]},
        "express": r.choice([None, [r.randint(0, 5), r.randint(0, 4000) / 100]]),
        "stencil": r.choice([None, [r.randint(0, 3000) / 100, r.randint(0, 3), r.randint(0, 200)]]),
        "framed": [r.randint(0, 3000) / 100, r.randint(0, 3), r.randint(100, 1500)],
        "fees": [r.randint(0, 900) / 100 for _ in range(r.randint(0, 2))],
        "tax": r.choice([0, 0, 19, 7.5]), "duty": r.choice([0, 0, 4.2]), "free": r.choice([0, 22, 150]),
        "week": r.choice(["mon-fri", "mon-sat", "mon tue thu"]),
        "closed": [(first + timedelta(days=r.randint(0, 60))).isoformat() for _ in range(r.randint(0, 6))],
    }  # fmt: skip


def toml(s: dict[str, Any]) -> str:
    """Return the sheet as text."""

    def table(name: str, entries: dict[str, list[float]]) -> str:
        return f"[{name}]\n" + "".join(f'"{k}" = {{ days = {d}, cost = {c} }}\n' for k, (d, c) in entries.items())

    fees = ", ".join(f'{{ name = "f", cost = {c} }}' for c in s["fees"])
    text = (
        f'name = "House"\ncurrency = "{s["currency"]}"\nsetup = {s["setup"]}\nworking_days = {s["days"]}\n'
        f"max_width_mm = {s['max'][0]}\nmax_height_mm = {s['max'][1]}\nquantities = {s['quantities']}\n"
        f'tax_pct = {s["tax"]}\nduty_pct = {s["duty"]}\nduty_free_to = {s["free"]}\nopen_days = "{s["week"]}"\n'
        f"closed = {s['closed']}\nfees = [{fees}]\n"
        "[layers]\n" + "".join(f'"{k}" = {v}\n' for k, v in s["layers"].items())
    )
    for step in s["steps"]:
        text += f"[[size_steps]]\nup_to_mm = {step['up']}\nper_batch = {step['prices']}\n"
    text += table("colours", s["colours"]) + table("finishes", s["finishes"]) + table("thickness", s["thickness"])
    if s["express"]:
        text += f"[express]\nworking_days = {s['express'][0]}\ncost = {s['express'][1]}\n"
    if s["stencil"]:
        cost, days, grams = s["stencil"]
        text += f"[stencil]\ncost = {cost}\ndays = {days}\nweight_g = {grams}\n"
        cost, days, grams = s["framed"]
        text += f"framed = {{ cost = {cost}, days = {days}, weight_g = {grams} }}\n"
    for way in s["freight"]:
        text += (
            f'[[freight]]\nname = "{way["name"]}"\ndays = {way["days"]}\ncost = {way["cost"]}\n'
            f"working = {str(way['working']).lower()}\nper_kg = {way['per_kg']}\nup_to_kg = {way['up_to_kg']}\n"
        )
    return text


def coins(value: Fraction, currency: str) -> Fraction:
    """Return a sum rounded to a coin, halves to the even one."""
    per = 1 if currency == "JPY" else 100
    return Fraction(round(value * per), per)


def exact(value: float) -> Fraction:
    return Fraction(str(value))


def works(day: date, week: str, closed: list[str]) -> bool:
    names = {"mon-fri": range(5), "mon-sat": range(6), "mon tue thu": (0, 1, 3)}[week]
    return day.weekday() in names and day.isoformat() not in closed


def count_on(day: date, days: int, week: str, closed: list[str]) -> date:
    """Return the day after so many working days, counted one by one; a closed end goes on."""
    while days > 0:
        day += timedelta(days=1)
        if works(day, week, closed):
            days -= 1
    while not works(day, week, closed):
        day += timedelta(days=1)
    return day


def made_here(s: dict[str, Any], o: Order) -> list[dict[str, Any]]:
    """Return the size steps that hold a board that the house makes at all."""
    long, short = max(o.width_mm, o.height_mm), min(o.width_mm, o.height_mm)
    able = (
        1 <= o.quantity <= max(s["quantities"]),
        str(o.layers) in s["layers"],
        long <= max(s["max"]) and short <= min(s["max"]),
        o.colour in s["colours"] and o.finish in s["finishes"] and o.thickness in s["thickness"],
        o.stencil == "none" or bool(s["stencil"]),
    )
    return [step for step in s["steps"] if long <= max(step["up"]) and short <= min(step["up"])] if all(able) else []


def recount(s: dict[str, Any], o: Order, today: date) -> list[tuple[str, str, int, Fraction, date]]:
    """Return (freight, speed, boards, total, arrival) of every offer."""
    held = made_here(s, o)
    if not held:
        return []
    fitting = [q for q in s["quantities"] if q >= o.quantity]
    boards = fitting[0]
    price = exact(held[0]["prices"][s["quantities"].index(boards)]) * exact(s["layers"][str(o.layers)]) + exact(
        s["setup"]
    )
    days = s["days"]
    for choice in (s["colours"][o.colour], s["finishes"][o.finish], s["thickness"][o.thickness]):
        days, price = days + choice[0], price + exact(choice[1])
    price = coins(price, s["currency"])
    stencil, grams = Fraction(0), 0.0
    if o.stencil != "none":
        cost, more, grams = s["stencil"] if o.stencil == "frameless" else s["framed"]
        days, stencil = days + more, exact(cost)
    kilograms = (boards * o.width_mm * o.height_mm * float(o.thickness) / 1000 * 1.9 + grams) / 1000
    found = []
    for speed in ("standard", "express"):
        if speed == "express" and not s["express"]:
            continue
        made, build = price, days
        if speed == "express":
            made, build = price + exact(s["express"][1]), days - s["days"] + s["express"][0]
        ships = count_on(today, build, s["week"], s["closed"])
        for way in s["freight"]:
            if way["up_to_kg"] and kilograms > way["up_to_kg"]:
                continue
            started = int(kilograms) + (kilograms - int(kilograms) > 1e-9)
            sent = coins(exact(way["cost"]) + exact(way["per_kg"]) * started, s["currency"])
            goods = made + stencil + sum((exact(c) for c in s["fees"]), Fraction(0))
            duty = coins(goods * exact(s["duty"]) / 100, s["currency"]) if goods > exact(s["free"]) else Fraction(0)
            tax = coins((goods + duty + sent) * exact(s["tax"]) / 100, s["currency"])
            if way["working"]:
                comes = count_on(ships, way["days"], "mon-fri", [])
            else:
                comes = ships + timedelta(days=way["days"])
                while comes.weekday() > 4:
                    comes += timedelta(days=1)
            found.append((way["name"], speed, boards, goods + sent + duty + tax, comes))
    return found


def an_order(r: random.Random, sheet: dict[str, Any] | None = None) -> Order:
    """Return an order; of a sheet it mostly asks for what is there."""

    def one(field: str, of_all: tuple[str, ...]) -> str:
        return r.choice(list(sheet[field])) if sheet is not None and r.random() < 0.85 else r.choice(of_all)

    return Order(
        r.choice([0, 1, 4, 5, 12, 20, 21, 120, 700]), r.randint(5, 300) / r.choice([1, 2, 4]), r.randint(5, 300) / 2,
        int(one("layers", ("1", "2", "4"))), one("colours", COLOURS), r.choice(["none", "frameless", "framed"]),
        one("finishes", FINISHES), r.choice(["1.6", "0.8"]),
    )  # fmt: skip


@pytest.mark.campaign
def test_twenty_thousand_orders_are_what_a_plain_recount_says() -> None:
    r = random.Random(20261127)
    compared = 0
    for _ in range(2000):
        sheet = a_sheet(r)
        house = read_house(toml(sheet), "x.toml")
        for _ in range(10):
            order = an_order(r, sheet)
            today = date(2026, 11, 1) + timedelta(days=r.randint(0, 60))
            needed = today + timedelta(days=r.randint(0, 50))
            budget = float(r.choice([0, 50, 400]))
            offers = quote([house], order, today, needed, budget)
            wanted = recount(sheet, order, today)
            assert len(offers) == len(wanted), (sheet, order)
            assert bool(list(refused([house], order))) == (not wanted and not _too_heavy(house, order))
            for freight, speed, boards, total, comes in wanted:
                (mine,) = [o for o in offers if (o.freight, o.speed) == (freight, speed)]
                assert (mine.boards, Fraction(mine.total.amount), mine.arrives) == (boards, total, comes), (
                    sheet,
                    order,
                )
                assert mine.on_time == (comes <= needed)
                if sheet["currency"] == "EUR":
                    assert mine.in_budget == (not budget or total <= budget)
                compared += 1
            _agree(offers, needed)
    assert compared > 5000


def _too_heavy(house: House, order: Order) -> bool:
    from zesty_trace.core.ordering.quote import why_not

    return not why_not(house, order)


def _agree(offers: list[Any], needed: date) -> None:
    """The cheapest and soonest, and what no other beats, found with plain loops."""
    if not offers:
        assert cheapest(offers) is None
        assert soonest(offers) is None
        return
    best, first, edge = cheapest(offers), soonest(offers), frontier(offers)
    assert first is not None
    assert first.arrives == min(o.arrives for o in offers)
    assert best is not None
    timely = [o for o in offers if o.arrives <= needed] or offers
    assert best.total.amount == min(o.total.amount for o in timely)
    for o in offers:
        beaten = any(
            p.total.amount <= o.total.amount and p.arrives <= o.arrives
            and (p.total.amount < o.total.amount or p.arrives < o.arrives)
            for p in offers
        )  # fmt: skip
        alike = any((e.total.amount, e.arrives) == (o.total.amount, o.arrives) for e in edge)
        assert alike == (not beaten)


def test_days_are_counted_as_by_hand_and_dates_are_read_one_way() -> None:
    friday = date(2026, 11, 27)
    week = Calendar()
    assert week.after(friday, 0) == friday
    assert week.after(friday, 1) == date(2026, 11, 30)
    assert week.after(date(2026, 11, 29), 1) == date(2026, 11, 30)  # begun on a Sunday
    assert week.after(date(2026, 11, 29), 0) == date(2026, 11, 30)
    closed = calendar_of("mon-fri", ["2026-12-24..2027-01-03"], "x")
    assert closed.after(date(2026, 12, 23), 1) == date(2027, 1, 4)
    assert closed.working_days(date(2026, 12, 21), date(2027, 1, 9)) == 3 + 5
    assert read_week("sat-mon", "x") == (True, False, False, False, False, True, True)
    assert read_date("2026-02-28") == date(2026, 2, 28)
    assert read_date("  ") is None
    for wrong in ("next friday", "2026-02-30", "28.02.2026", "02/28/2026", "2026-2-3", "1e3", "2026-13-01"):
        with pytest.raises(InputError, match="no date that is understood"):
            read_date(wrong)
    for words in (["2026-12-24..2026-12-01"], ["soon"], ["2026-01-01..2099-01-01"], [""]):
        with pytest.raises(InputError):
            read_closed(words, "x")
    for wrong in ("", "someday", "mon-xyz"):
        with pytest.raises(InputError):
            read_week(wrong, "x")


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("setup = ", "setup = -1 #", "setup = -1 cannot be"),
        ("setup = ", "setup = nan #", "setup = nan cannot be"),
        ("setup = ", "setup = inf #", "setup = inf cannot be"),
        ("working_days = ", "working_days = -3 #", "cannot be"),
        ("tax_pct = ", "tax_pct = 400 #", "tax_pct = 400 cannot be"),
        ('currency = "', 'currency = "euro" #', "currency of three letters"),
        ('open_days = "', 'open_days = "never" #', "no day of the week"),
        ("closed = ", 'closed = ["2026-02-30"] #', "no date that is understood"),
        ("setup = ", "setup = 1\nsetups = ", "setups"),
    ],
)
def test_what_no_sheet_can_have_is_refused_with_its_line(old: str, new: str, words: str) -> None:
    text = toml(a_sheet(random.Random(5)))
    assert old in text
    with pytest.raises(InputError) as error:
        read_house(text.replace(old, new, 1), "mine.toml")
    assert words in f"{error.value.message}"
    assert "mine.toml" in str(error.value) or "House" in str(error.value)


def test_steps_that_are_never_reached_are_refused() -> None:
    sheet = a_sheet(random.Random(5))
    sheet["steps"] = [{"up": [150, 150], "prices": sheet["steps"][0]["prices"]}, sheet["steps"][0] | {"up": [100, 100]}]
    with pytest.raises(InputError, match="never reached"):
        read_house(toml(sheet), "x.toml")


def test_other_currencies_compare_by_a_table_of_rates_and_round_to_their_coin() -> None:
    rates = read_rates('of = "2026-11-20"\n[rates]\nJPY = 0.0061\nSEK = 0.087\n', "rates.toml")
    assert rates.in_budget(Money(Decimal(663), "JPY")) == money("4.04")
    assert rates.in_budget(Money(Decimal(1), "USD")) is None
    assert Rates().in_budget(money("1.005")) == money("1.00")  # half to the even coin
    assert rounded(Money(Decimal("10.5"), "JPY")) == Money(Decimal(10), "JPY")
    assert rounded(Money(Decimal("11.5"), "JPY")) == Money(Decimal(12), "JPY")
    for wrong in ("[rates]\nEUR = 1\n", "[rates]\nusd = 1\n", "[rates]\nUSD = -1\n", "[rates]\nUSD = nan\n", "x = 1\n",
                  "[rates]\nUSD = 'x'\n", "["):  # fmt: skip
        with pytest.raises(InputError):
            read_rates(wrong, "rates.toml")
    sheet = a_sheet(random.Random(3)) | {"currency": "JPY", "setup": 600.0}
    house = read_house(toml(sheet), "x.toml")
    order = next(o for o in (an_order(random.Random(k)) for k in range(400)) if recount(sheet, o, date(2026, 11, 27)))
    plain = quote([house], order, date(2026, 11, 27), None, 100.0)
    known = quote([house], order, date(2026, 11, 27), None, 100.0, rates)
    assert {o.compared for o in plain} == {None}
    assert {o.in_budget for o in plain} == {None}
    assert all(o.compared is not None and o.in_budget is not None for o in known)


def test_reasons_say_what_one_change_would_win_with_its_number(demo) -> None:
    from zesty_trace.core.ordering.houses import load_houses

    houses = tuple(load_houses())
    today = date(2026, 12, 2)
    lantern = next(h for h in houses if h.name == "Lantern Boards")

    def said(order: Order, needed: date | None = None, speed: str = "standard", freight: str = "post") -> list[str]:
        asked = Question((lantern,), order, today, needed)
        mine = next(o for o in asked.offers() if (o.speed, o.freight) == (speed, freight))
        return reasons(asked, mine)

    twelve = order_of(demo)
    # blue: 3 + 2 working days from Wed 2 Dec: Wed 9 Dec, post 14 days: Wed 23 Dec; green: Mon 7 Dec, Mon 21 Dec
    blue = said(Order(5, 80, 56, 2, "blue"), date(2026, 12, 22))
    assert "blue adds 2 working days at Lantern Boards: misses Tue 22 Dec by 1 day; green arrives Mon 21 Dec" in blue
    assert "10 cost the same as 5" in said(Order(5, 80, 56, 2, "green"))
    assert "20 cost what 12 would: Lantern Boards sells by steps" in said(twelve)
    # 101.2 mm costs the 150 mm step: 24.00 instead of 2.00
    assert "Trim 1.2 mm in width to reach the 100 x 100 mm step and save 22.00 EUR" in said(
        Order(10, 101.2, 56, 2, "green")
    )
    framed = said(Order(5, 50, 40, 2, "green", "frameless"))
    assert "Stencil frameless, cut 90 x 80 mm: the framed one is 380 x 280 mm for a board of 50 x 40 mm" in framed
    # express: 2 working days instead of 3: Fri 4 Dec instead of Mon 7 Dec, both two weeks on the way
    assert "Express build arrives Fri 18 Dec, 3 days sooner, for 9.00 EUR more" in said(Order(5, 80, 56, 2, "green"))
    gold = said(Order(5, 80, 56, 2, "green", finish="gold"))
    assert "gold costs 14.00 EUR and 1 working day more than lead-free tin at Lantern Boards" in gold


def test_why_nobody_makes_it_is_said_by_what_stands_in_the_way(demo) -> None:
    from zesty_trace.core.design import edits
    from zesty_trace.core.ordering.houses import load_houses
    from zesty_trace.core.ordering.judging import order_findings

    houses = load_houses()
    said = dict(refused(houses, Order(120, 80, 56, 2, "green")))
    assert said["Lantern Boards"] == "sells up to 100 at once, 120 are asked for"
    (found,) = [
        f for f in order_findings(edits.set_brief(demo, quantity=120), [], list(said.items())) if f.key == "no offer"
    ]
    assert "120 are asked for" in found.detail
    odd = edits.set_brief(demo, needed_by="next friday")
    titles = [f.title for f in order_findings(odd, quote(houses, order_of(odd), date(2026, 11, 27), None, 0))]
    assert "The day it is needed, “next friday”, is not understood" in titles
    assert dict(refused(houses, Order(5, 600, 56, 2, "green")))["Lantern Boards"].startswith("makes up to 400 x 400 mm")
    assert "has not the colour pink" in dict(refused(houses, Order(5, 60, 56, 2, "pink")))["Lantern Boards"]
