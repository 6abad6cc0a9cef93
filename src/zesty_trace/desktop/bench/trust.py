"""Who measures, at which bench, and how far the instruments may be off: for each record, and to guard limits by."""

from __future__ import annotations

from datetime import date

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QFormLayout, QLineEdit, QVBoxLayout, QWidget

from zesty_trace.desktop.kit.widgets import button, label, row
from zesty_trace.errors import ZestyError

BY_HAND = "the meter read by hand"
UNITS = {"volt": ("Volts", "0.5 % + 2 mV"), "ohm": ("Ohms", "1 % + 0.3 ohm"), "amp": ("Amperes", "1 % + 5 mA")}


class TrustPage(QWidget):
    """A form for it, kept in the user's own folder; `kept` tells that something was."""

    kept = Signal()

    def __init__(self, today: date) -> None:
        super().__init__()
        self.today = today
        self.name, self.bench, self.calibrated = QLineEdit(), QLineEdit(), QLineEdit()
        self.calibrated.setPlaceholderText("2026-03-01")
        self.accuracy = {key: QLineEdit() for key in UNITS}
        self.instrument = QComboBox()
        self.instrument.setEditable(True)
        self.instrument.setAccessibleName("Instrument, as it names itself")
        self.instrument.currentTextChanged.connect(lambda _t: self._show_instrument())
        self.words, self.problem = label("", "muted", True), label("", "bad", True)
        form = QFormLayout()
        form.addRow("Your name", self.name)
        form.addRow("This bench", self.bench)
        form.addRow("Instrument", self.instrument)
        form.addRow("Calibrated on", self.calibrated)
        for key, (title, example) in UNITS.items():
            self.accuracy[key].setPlaceholderText(example)
            self.accuracy[key].setAccessibleName(f"{title}: how far it may be off")
            form.addRow(f"{title} ±", self.accuracy[key])
        said = (
            "The figures stand in the sheet of each instrument. A reading nearer to its limit than they allow proves "
            "nothing: the board then stays open. Limits without a figure are not guarded, which the record says."
        )
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(label("Who measures, and with what", "heading"))
        column.addWidget(label(said, "muted", True))
        column.addLayout(form)
        column.addWidget(self.problem)
        column.addWidget(row(button("Keep", self.keep, True), None))
        column.addWidget(self.words)
        column.addStretch(1)
        self.problem.hide()

    def pull(self, named: tuple[str, ...] = ()) -> None:
        """Show what is known; `named` are instruments that have been seen here."""
        from zesty_trace.store import bench, own

        who = own.person()
        self.name.setText(who.name if who.said else "")
        self.name.setPlaceholderText(who.name)
        self.bench.setText(who.bench)
        known = [n for n in bench.load_instruments() if n != bench.BY_HAND]
        before = self.instrument.currentText() or BY_HAND
        self.instrument.blockSignals(True)
        self.instrument.clear()
        self.instrument.addItems(list(dict.fromkeys([BY_HAND, *known, *named])))
        self.instrument.setCurrentText(before)
        self.instrument.blockSignals(False)
        self._show_instrument()

    @property
    def _chosen(self) -> str:
        text = self.instrument.currentText().strip()
        return "" if text in ("", BY_HAND) else text

    def _show_instrument(self) -> None:
        from zesty_trace.journey.trusting import trusted_of
        from zesty_trace.store.bench import BY_HAND as OWN
        from zesty_trace.store.bench import Instrument, load_instruments

        said = load_instruments().get(self._chosen or OWN, Instrument())
        self.calibrated.setText(said.calibrated)
        for key, field in self.accuracy.items():
            field.setText(getattr(said, key))
        self.words.setText(trusted_of(self._chosen, self._chosen).words(self.today))

    def keep(self) -> None:
        """Keep what is typed; what is not understood is said, and nothing of it is kept."""
        from zesty_trace.journey.trusting import say_instrument
        from zesty_trace.store.own import keep_person

        said = {key: field.text().strip() for key, field in self.accuracy.items()}
        try:
            say_instrument(self._chosen, self.today, calibrated=self.calibrated.text().strip(), **said)
            keep_person(self.name.text().strip() or self.name.placeholderText(), self.bench.text())
        except ZestyError as error:
            self.problem.setText(str(error))
            self.problem.show()
            return
        self.problem.hide()
        self.pull()
        self.kept.emit()
