"""Finding kinds by words, and new parts of any kind in a sentence."""

from __future__ import annotations

import pytest

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.catalogue.shelf import search, space_mm2
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.wording.completing import completions
from zesty_trace.core.wording.sentences import understand
from zesty_trace.errors import InputError


@pytest.mark.parametrize(
    ("words", "among"),
    [
        ("relay", "relay_12v"),
        ("temperature", "temperature_sensor_one_wire"),
        ("5 V regulator", "regulator_5v"),
        ("5v reg", "regulator_5v"),
        ("realy", "relay"),
        ("ldo", "regulator_3v3_low_drop"),
        ("8 pin header", "header_8"),
        ("screw", "terminal_2"),
        ("SOT-23", "npn"),
    ],
)
def test_a_kind_is_found_by_its_words(words: str, among: str, catalogue: Catalogue) -> None:
    assert among in [k.id for k in search(catalogue, words)]


def test_every_kind_is_found_by_its_own_title_and_nonsense_finds_nothing(catalogue: Catalogue) -> None:
    for kind in catalogue.kinds.values():
        assert kind.id in [k.id for k in search(catalogue, kind.title, most=400)], kind.title
    assert search(catalogue, "qqqq") == []
    assert len(search(catalogue, "", most=1000)) == len(catalogue.kinds)


def test_space_is_that_of_the_courtyard(catalogue: Catalogue) -> None:
    """IPC-7351, from memory: a chip of 1.6 x 0.8 mm keeps about 3 x 1.5 mm at the nominal level."""
    assert 3.5 < space_mm2(catalogue, "R0603") < 6.0
    assert space_mm2(catalogue, "DIP-28") > 300


@pytest.mark.parametrize(
    ("said", "kinds"),
    [
        ("K1 relay_12v", {"K1": "relay_12v"}),
        ("K1 relay 12v", {"K1": "relay_12v"}),
        ("U9 humidity", {"U9": "humidity_sensor"}),
        ("R7 10k - D3 zener_diode 5.1 - new GND", {"R7": "resistor", "D3": "zener_diode"}),
    ],
)
def test_a_sentence_makes_a_new_part_of_any_kind(said: str, kinds: dict[str, str], catalogue: Catalogue) -> None:
    after = understand(said, Wired(Design(), catalogue)).design
    assert {r: after.parts[r].kind for r in kinds} == kinds


def test_a_kind_that_is_not_clear_is_asked_about(catalogue: Catalogue) -> None:
    with pytest.raises(InputError) as told:
        understand("U7 temperature", Wired(Design(), catalogue))
    assert "U7 temperature_sensor_one_wire" in told.value.hint
    with pytest.raises(InputError, match="no part U7"):
        understand("U7 qqqq", Wired(Design(), catalogue))


def test_the_line_completes_kinds_of_the_reference(catalogue: Catalogue) -> None:
    wired = Wired(Design(), catalogue)
    assert "relay_12v" in completions("K1 rel", wired)
    assert "humidity_sensor" in completions("SDA - U4 hum", wired)
    assert not set(completions("R1 rel", wired)) & set(catalogue.kinds)
