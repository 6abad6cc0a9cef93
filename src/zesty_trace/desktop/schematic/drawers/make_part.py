"""Make a part: paste its pins from the data sheet, pick the package, say what it needs; it is checked as you type."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QFormLayout, QLineEdit, QPlainTextEdit, QWidget

from zesty_trace.core.catalogue.facts import Facts
from zesty_trace.core.catalogue.kinds import Kind
from zesty_trace.core.catalogue.make_part import make_kind, read_pin_table
from zesty_trace.core.quantities import parse_address
from zesty_trace.core.stated import parse_value
from zesty_trace.desktop.kit.widgets import button, fill, row, table
from zesty_trace.desktop.schematic.drawers.base import Drawer, wrapped
from zesty_trace.errors import InputError, ZestyError
from zesty_trace.journey.kinds import keep_kind

EXAMPLE = "1  VDD  power\n2  GND  ground\n3  SDA  open drain\n4  SCL  input"
ROLE_TITLES = {
    "supply_in": "takes supply",
    "supply_out": "gives supply",
    "ground": "ground",
    "input": "input",
    "output": "output",
    "bidirectional": "in and out",
    "open_drain": "open drain",
    "passive": "passive",
    "no_connect": "not connected",
}


class MakePartDrawer(Drawer):
    """The form, the pins as understood, and what is still wrong."""

    key, title, tip = "make", "Make a part", "A part kind of your own, from the pin table of its data sheet"

    def build(self) -> None:
        """Make the fields."""
        self.pins = QPlainTextEdit()
        self.pins.setPlaceholderText(f"Paste the pin table: number, name, type.\n{EXAMPLE}")
        self.pins.setAccessibleName("Pin table")
        self.pins.setFixedHeight(118)
        self.pins.setTabChangesFocus(True)
        self.kind_id, self.kind_title, self.letter = QLineEdit(), QLineEdit(), QLineEdit("U")
        self.kind_id.setPlaceholderText("soil_sensor")
        self.kind_title.setPlaceholderText("Soil moisture sensor, bus")
        self.package = QComboBox()
        self.v_min, self.v_max, self.v_pin, self.supply_a, self.address = (QLineEdit() for _ in range(5))
        for field, example in (
            (self.v_min, "2.7 V"),
            (self.v_max, "3.6 V"),
            (self.v_pin, "3.6 V"),
            (self.supply_a, "1.2 mA"),
            (self.address, "0x44, if it is on the bus"),
        ):
            field.setPlaceholderText(example)
        form = QFormLayout()
        form.setVerticalSpacing(6)
        for text, widget in (
            ("Name", self.kind_id),
            ("Described as", self.kind_title),
            ("Letter", self.letter),
            ("Package", self.package),
            ("Works from", self.v_min),
            ("Works up to", self.v_max),
            ("Any pin, up to", self.v_pin),
            ("Draws", self.supply_a),
            ("Bus address", self.address),
        ):
            form.addRow(text, widget)
        holder = QWidget()
        holder.setLayout(form)
        self.said = wrapped("Paste a pin table to begin.")
        self.read = table("Pin", "Name", "Taken as")
        self.read.setMinimumHeight(120)
        self.read.horizontalHeader().setStretchLastSection(True)
        self.keep_button = button("Keep the part", self.keep, True)
        self.keep_button.setEnabled(False)
        for each in (self.pins, self.said, holder, row(self.keep_button, None), self.read):
            self.body.addWidget(each)
        self.pins.textChanged.connect(self.check)
        typed = (self.v_min, self.v_max, self.v_pin, self.supply_a, self.address)
        for field in (self.kind_id, self.kind_title, self.letter, *typed):
            field.textEdited.connect(lambda _t: self.check())
        self.package.currentTextChanged.connect(lambda _t: self.check())

    def pull(self) -> None:
        """Fill the packages once."""
        if self.package.count() == 0:
            self.package.addItems(["", *sorted(self.session.catalogue.packages)])

    def made(self) -> Kind:
        """Return the kind as it stands. InputError says what is missing or wrong."""
        pins = read_pin_table(self.pins.toPlainText())
        fill(self.read, [[p.number, p.name, ROLE_TITLES.get(p.role, p.role)] for p in pins])
        if not self.package.currentText():
            raise InputError(f"{len(pins)} pins read. Pick a package", "package", f"One with {len(pins)} pads")
        low, high, pin_max = (
            parse_value(field.text(), name) if field.text().strip() else None
            for name, field in (("works from", self.v_min), ("works up to", self.v_max), ("pin tolerates", self.v_pin))
        )
        facts = Facts(supply_min_v=low, supply_max_v=high, pin_max_v=pin_max)
        amp = parse_value(self.supply_a.text(), "draws") if self.supply_a.text().strip() else 0.0
        address = parse_address(self.address.text(), "bus address") if self.address.text().strip() else None
        return make_kind(
            self.kind_id.text().strip(),
            self.kind_title.text(),
            self.letter.text().strip(),
            self.package.currentText(),
            pins,
            facts,
            amp,
            self.session.catalogue,
            address,
        )

    def check(self) -> None:
        """Say whether the part could be kept."""
        try:
            kind = self.made()
        except ZestyError as error:
            self._say(str(error), "bad" if self.pins.toPlainText().strip() else "muted")
            self.keep_button.setEnabled(False)
            return
        needs = ", ".join(f"{n.value} at {n.pin}" for n in kind.needs)
        self._say(f"Ready: {len(kind.pins)} pins" + (f", wants {needs}." if needs else "."), "good")
        self.keep_button.setEnabled(True)

    def _say(self, text: str, name: str) -> None:
        self.said.setObjectName(name)
        self.said.setText(text)
        self.said.style().polish(self.said)

    def keep(self) -> None:
        """Keep the part in the user's own folder and in the project, and offer it to the Say-it line."""
        try:
            kind = self.made()
            path = keep_kind(kind, self.session.path)
        except ZestyError as error:
            self.tell(error)
            return
        self.session.refresh_catalogue()
        self.keep_button.setEnabled(False)
        self._say(f"Kept in {path.parent}. Say “add {kind.prefix}… {kind.id}” below to use it.", "good")
        self.model.line_asked.emit(f"add {self._fresh(kind.prefix)} {kind.id}")

    def _fresh(self, prefix: str) -> str:
        from zesty_trace.core.design.edits import fresh_ref

        return fresh_ref(self.session.design, prefix)
