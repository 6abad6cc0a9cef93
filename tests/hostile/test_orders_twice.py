"""Orders that are placed, unpacked or told twice, with figures and names that cannot be: by the command line."""

from __future__ import annotations

import json
from datetime import date
from decimal import Decimal
from pathlib import Path

import pytest

from zesty_trace.cli import main
from zesty_trace.core.ordering.parts.placed import Came, Line, missing, order_csv, read_order, receive
from zesty_trace.core.ordering.parts.sorts import Sort, stands_in
from zesty_trace.errors import InputError
from zesty_trace.journey.buying import load_stock
from zesty_trace.journey.demos import create_demo
from zesty_trace.journey.ordering import load_ordered

DAY = ("--today", "2026-12-02")


@pytest.fixture(scope="module")
def project(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("twice") / "board"
    create_demo(folder, date(2026, 12, 2))
    return folder


def said(capsys: pytest.CaptureFixture[str], *words: str) -> tuple[int, dict]:
    status = main([*words, "--json"])
    return status, json.loads(capsys.readouterr().out)


def test_a_second_order_of_boards_stands_beside_the_first(capsys, project: Path) -> None:
    name = str(project)
    offers = said(capsys, "quote", name, *DAY)[1]["offers"]
    how = [f"{o['house']}, {o['freight']}" for o in offers]
    known = said(capsys, "quote", name, *DAY, "--take", "nothing of the kind")
    assert known[0] == 2
    first = next(h for h in how if said(capsys, "quote", name, *DAY, "--take", h)[0] != 2)
    status, twice = said(capsys, "quote", name, *DAY, "--take", first)
    assert [o["number"] for o in twice["orders"]] == [1, 2]
    boards = sum(o["boards"] for o in twice["orders"])
    assert f"In all {boards} boards" in twice["ordered"]
    status, unclear = said(capsys, "quote", name, *DAY, "--here")
    assert status == 2
    assert "Say which" in unclear["hint"]
    assert said(capsys, "quote", name, *DAY, "--here", "2")[1]["orders"][1]["state"] == "here"
    assert said(capsys, "quote", name, *DAY, "--here", "2")[0] == 2  # told twice
    assert said(capsys, "quote", name, *DAY, "--withdraw", "2")[0] == 2  # they are here
    assert said(capsys, "quote", name, *DAY, "--withdraw", "7")[0] == 2
    for states in (["ordered", "ordered"], ["ordered", "undone"]):
        assert [o["state"] for o in said(capsys, "quote", name, *DAY, "--undo", "2")[1]["orders"]] == states
    assert said(capsys, "quote", name, *DAY, "--undo", "2")[0] == 2  # nothing is left of it
    assert [o["state"] for o in said(capsys, "quote", name, *DAY, "--withdraw")[1]["orders"]] == ["withdrawn", "undone"]
    assert not load_ordered(project)
    assert [s for _, s in load_ordered(project).orders[1].history] == ["ordered", "here", "undone", "undone"]


@pytest.mark.parametrize("count", ["0", "-3", "100001"])
def test_no_such_number_of_boards_is_priced_or_ordered(capsys, project: Path, count: str) -> None:
    status, told = said(capsys, "quote", str(project), *DAY, "--quantity", count)
    assert status == 2
    assert f"{count} boards cannot be ordered" in told["error"]


def test_too_few_boards_are_said(project: Path, capsys) -> None:
    name = str(project)
    how = [f"{o['house']}, {o['freight']}" for o in said(capsys, "quote", name, *DAY, "--quantity", "5")[1]["offers"]]
    for h in how:
        if said(capsys, "quote", name, *DAY, "--quantity", "5", "--take", h)[0] != 2:
            break
    assert main(["quote", name, *DAY]) == 1
    assert "the brief asks for 12" in capsys.readouterr().out
    main(["quote", name, *DAY, "--withdraw"])
    capsys.readouterr()


def lines(count: int = 10, sort: Sort = Sort("fuse", "1A", "Fuse-5x20")) -> list[Line]:  # noqa: B008
    return [Line("A-1", sort, count, Decimal("0.1"), "F1")]


def test_more_than_was_ordered_is_refused_unless_it_is_said() -> None:
    once, drawers = receive(lines(4), [], [Came(1, 3)])
    with pytest.raises(InputError, match="3 came before; with 3 more it is 6, but 4 were ordered"):
        receive(once, drawers, [Came(1, 3)])
    with pytest.raises(InputError, match="It is 9999, but 10 were ordered"):
        receive(lines(), [], [Came(1, 9999)])
    with pytest.raises(InputError, match="but 4 were ordered"):
        receive(lines(4), [], [Came(1, 3), Came(1, 3)])
    more, drawers = receive(once, drawers, [Came(1, 3)], more=True)
    assert (more[0].received, drawers[0].count) == (6, 6)


def test_a_stronger_fuse_does_not_stand_in_for_a_weaker_one() -> None:
    assert stands_in(Sort("fuse", "3A", "Fuse-5x20"), Sort("fuse", "1A", "Fuse-5x20")) is None
    assert stands_in(Sort("fuse", "250V 3A"), Sort("fuse", "250V 1A")) is None
    assert stands_in(Sort("fuse", "250V 1A"), Sort("fuse", "250V 1A")) == ""
    assert stands_in(
        Sort("ceramic", "100n 50V"), Sort("ceramic", "100n 16V")
    )  # of a rating that only bears, more is better
    came, drawers = receive(lines(), [], [Came(1, 10, Sort("fuse", "3A", "Fuse-5x20"))])
    assert [(k, x.short) for k, x in missing(came)] == [(1, 10)]
    assert (came[0].received, came[0].unfit, drawers[0].sort.value) == (10, 10, "3A")
    assert read_order(order_csv(came), "o") == came


def test_what_does_not_stand_in_is_said(capsys, project: Path) -> None:
    (project / "orders").mkdir(exist_ok=True)
    (project / "orders" / "2026-12-01-quay.csv").write_text(order_csv(lines(2, Sort("resistor", "10k", "R0603"))))
    name = str(project)
    assert main(["receive", name, "2026-12-01-quay.csv", "1=2,resistor:12k:R0603"]) == 1
    told = capsys.readouterr().out
    assert "does not stand in for resistor 10k R0603" in told
    assert "to be bought again: 2 x resistor 10k" in told
    assert main(["receive", name, "2026-12-01-quay.csv", "1=1"]) == 2
    assert main(["receive", name, "2026-12-01-quay.csv", "1=1", "--more"]) == 1
    capsys.readouterr()


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("resistor", "10k", "R0603", "0"), "0 pieces"),
        (("resistor", "banana", "R0603", "5"), "banana"),
        (("resitor", "10k", "R0603", "5"), "no part kind “resitor”"),
        (("resistor", "10k", "R0604", "5"), "no package “R0604”"),
    ],
)
def test_what_cannot_be_is_not_put_into_a_drawer(capsys, project: Path, words: tuple[str, ...], told: str) -> None:
    before = load_stock(project)
    status, answer = said(capsys, "stock", str(project), "--put", *words)
    assert status == 2
    assert told in answer["error"]
    assert load_stock(project) == before


def test_offers_and_drawers_that_the_catalogue_does_not_know_are_named(capsys, project: Path) -> None:
    table = project / "suppliers" / "odd.toml"
    table.write_text(
        'name = "Odd"\n[[freight]]\nname = "post"\ndays = 2\ncost = 3\n'
        '[[offers]]\nnumber = "A"\nkind = "resitor"\nvalue = "10k"\nsteps = [[1, 0.1]]\n'
        '[[offers]]\nnumber = "B"\nkind = "resistor"\nvalue = "banana"\npackage = "R0603"\nsteps = [[1, 0.1]]\n'
    )
    stock = project / "stock.csv"
    kept = stock.read_text()
    stock.write_text(kept + "led,red,LED-nowhere,5,,,\n")
    status, answer = said(capsys, "buy", str(project), *DAY)
    assert status == 1
    left = " ".join(answer["left_out"])
    for words in ("Odd, A: There is no part kind “resitor”", "Odd, B", "banana", "no package “LED-nowhere”"):
        assert words in left
    table.unlink()
    stock.write_text(kept)
