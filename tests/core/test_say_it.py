"""What people say to the sheet: understood whatever case and dash; a slip makes no net, supplies stay apart."""

from __future__ import annotations

import pytest

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.wording.sentences import understand
from zesty_trace.core.wording.words import looks_like_a_slip
from zesty_trace.errors import InputError


def said(sentence: str, demo: Design, catalogue: Catalogue) -> Design:
    return understand(sentence, Wired(demo, catalogue)).design


@pytest.mark.parametrize(
    "sentence",
    [
        "U3.P4 - R20 330 - D7 red - GND",
        "U3.P4 -> R20 330 -> D7 red -> gnd",
        "u3.p4-R20 330-D7 red-GND",
        "U3.P4 – R20 330 – D7 red – GND",
        "U3.P4 → R20 330 → D7 red → Gnd",
    ],
)
def test_one_chain_in_many_hands(sentence: str, demo: Design, catalogue: Catalogue) -> None:
    wanted = said("U3.P4 - R20 330 - D7 red - GND", demo, catalogue)
    assert said(sentence, demo, catalogue) == wanted


@pytest.mark.parametrize(
    ("sentence", "same_as"),
    [
        ("set r9 to 330", "R9 = 330"),
        ("remove R8", "delete R8"),
        ("u5.adr to 3v3", "U5.ADR to 3V3"),
        ("connect U4.ALERT to U3.P4", "U4.ALERT - U3.P4"),
        ("copy block Panel", "copy Panel"),
    ],
)
def test_other_words_for_the_same(sentence: str, same_as: str, demo: Design, catalogue: Catalogue) -> None:
    assert said(sentence, demo, catalogue) == said(same_as, demo, catalogue)


@pytest.mark.parametrize(
    ("sentence", "word", "hint"),
    [
        ("U3.P4 = GMD", "GMD", "Did you mean GND"),
        ("U33.P4 - GND", "U33", "Did you mean U3"),
        ("3V3 - 5V", "both supplies", "rename"),
        ("3V3 - GND", "a short", "part in between"),
        ("connect U5.ADR to 3V3", "on GND already", "to move it"),
        ("R9 = 10 kilo", "kilo", "4k7"),
        ("pull up XX", "supply", "pull up XX to"),
    ],
)
def test_a_slip_is_asked_about(sentence: str, word: str, hint: str, demo: Design, catalogue: Catalogue) -> None:
    with pytest.raises(InputError) as caught:
        said(sentence, demo, catalogue)
    assert word in str(caught.value)
    assert hint in caught.value.hint


def test_a_new_net_is_said_to_be_new(demo: Design, catalogue: Catalogue) -> None:
    assert understand("U3.P4 = LAMP2", Wired(demo, catalogue)).preview.startswith("new net LAMP2")
    assert "GMD" in said("U3.P4 = new GMD", demo, catalogue).nets
    assert "new net" not in understand("U3.P4 = 3v3", Wired(demo, catalogue)).preview


def test_pulls_go_to_the_supply_of_who_listens(demo: Design, catalogue: Catalogue) -> None:
    up = said("pull up U3.P4", demo, catalogue)
    down = said("pull down U3.P4 with 100k", demo, catalogue)
    fresh = next(r for r in up.parts if r not in demo.parts)
    assert up.net_of()[Pin(fresh, "1")] == "3V3"
    assert up.parts[fresh].value == "10k"
    assert (down.net_of()[Pin(fresh, "1")], down.parts[fresh].value) == ("GND", "100k")


def test_an_arrow_in_a_note_stays(demo: Design, catalogue: Catalogue) -> None:
    after = said('add U9 humidity_sensor note "in -> out"', demo, catalogue)
    assert after.parts["U9"].notes == "in -> out"


@pytest.mark.parametrize(
    ("word", "known", "slip"),
    [
        ("GMD", "GND", True),
        ("HAET", "HEAT", True),
        ("HEATT", "HEAT", True),
        ("LED_2", "LED_1", False),
        ("SCK", "SCL", False),
        ("A", "B", False),
        ("gnd", "GND", False),
    ],
)
def test_what_looks_like_a_slip(word: str, known: str, slip: bool) -> None:
    assert looks_like_a_slip(word, known) == slip
