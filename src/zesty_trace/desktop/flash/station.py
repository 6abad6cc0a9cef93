"""Flash: what is in the image, does it fit, and each board of the batch erased, written, read back and recorded."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import QRectF, QSize
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QHeaderView, QLineEdit, QVBoxLayout, QWidget

from zesty_trace.core.design import edits
from zesty_trace.core.design.model import ImageSpec
from zesty_trace.core.findings import Severity
from zesty_trace.core.firmware.fit import controller_findings
from zesty_trace.core.firmware.image import Image, fit_findings, parse_image
from zesty_trace.core.firmware.targets import Target, find_target, shipped_targets
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.kit.widgets import button, card, fill, label, row, table
from zesty_trace.desktop.project.station import Station
from zesty_trace.desktop.project.trust import TrustLine
from zesty_trace.devices.usart_bootloader import open_port
from zesty_trace.errors import InputError, StoreError, ZestyError
from zesty_trace.files import read_given, write_inside
from zesty_trace.journey.batch import batch_of, book, chosen_serial, refuse_simulated_on_real
from zesty_trace.journey.flashing import flash_board, flash_job, flash_simulated, image_of
from zesty_trace.names import check_name
from zesty_trace.store.board import BoardRecord, Standing

FAULTS = {
    "a good target": "none",
    "one that is silent": "silent",
    "one of another kind": "identity",
    "one that drops off": "drop",
    "one with a bad bit": "bits",
    "one that is read-protected": "protected",
}


STAND_IN = "stand-in"


class MemoryBar(QWidget):
    """The target's flash from end to end, with what the image fills."""

    def __init__(self) -> None:
        super().__init__()
        self.image: Image | None = None
        self.target: Target | None = None
        self.setMinimumHeight(58)

    def sizeHint(self) -> QSize:
        """Return the natural size."""
        return QSize(300, 58)

    def show_image(self, image: Image | None, target: Target | None) -> None:
        """Show an image in a target."""
        self.image, self.target = image, target
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw flash, image and the two end addresses."""
        t = theme.current()
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        bar = QRectF(1, 4, self.width() - 2, 26)
        p.setPen(QPen(t.color("line"), 1))
        p.setBrush(t.color("faint"))
        p.drawRoundedRect(bar, 5, 5)
        if self.target:
            p.setPen(t.color("muted"))
            p.drawText(QRectF(0, 34, 200, 20), 0, f"0x{self.target.flash_start:08X}")
            p.drawText(QRectF(self.width() - 200, 34, 199, 20), 2, f"0x{self.target.flash_end - 1:08X}")
        if self.image and self.target:
            p.setBrush(t.color("copper"))
            p.setPen(t.color("copper"))
            for s in self.image.segments:
                a = (s.address - self.target.flash_start) / self.target.flash_bytes
                b = (s.end - self.target.flash_start) / self.target.flash_bytes
                a, b = max(0.0, min(1.0, a)), max(0.0, min(1.0, b))
                p.drawRoundedRect(QRectF(bar.x() + a * bar.width(), bar.y(), max(2.0, (b - a) * bar.width()), 26), 4, 4)
        p.end()


class FlashStation(Station):
    """Image on the left, the batch on the right."""

    key = "flash"

    def build(self) -> None:
        """Make the image card, the port card and the batch."""
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(12)
        left = QVBoxLayout()
        left.setSpacing(12)
        left.addWidget(self._image_card())
        left.addWidget(self._port_card())
        left.addStretch(1)
        outer.addLayout(left, 5)
        outer.addWidget(self._batch_card(), 6)
        self.image: Image | None = None
        self.target_found: Target | None = None
        self._flashing = False
        self._waiting: list[
            str
        ] = []  # at a real port: the boards of the batch that are still to come, the next one first

    def _image_card(self) -> QWidget:
        self.file = label("", "heading", True)
        self.sha = label("", "muted", True)
        self.ranges = table("From", "To", "Bytes")
        self.ranges.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.ranges.setMaximumHeight(130)
        self.fit = label("", "", True)
        self.bar = MemoryBar()
        self.target = QComboBox()
        self.target.addItems(list(shipped_targets()))
        self.target.currentTextChanged.connect(self._set_target)
        self.choose_button = button("Choose an image …", self.choose, tip="Ctrl+O on this station")
        return card(
            label("The image", "heading"),
            self.file,
            self.sha,
            self.ranges,
            self.bar,
            self.fit,
            row(self.choose_button, None, label("Target"), self.target),
        )

    def _port_card(self) -> QWidget:
        self.port = QComboBox()
        self.port.setEditable(True)
        self.port.setAccessibleName("Serial port")
        self.fault = QComboBox()
        self.fault.addItems(list(FAULTS))
        self.fault.setToolTip("What the stand-in target pretends to be")
        self.steps = label(
            "Boot mode: hold BOOT, tap RESET, let BOOT go. At a real port one board is flashed at a time, the next "
            "is asked for, and a chip that was in before is refused. The stand-in is a separate program; its boards "
            "are marked simulated and never mix with real ones.",
            "muted",
            True,
        )
        return card(
            label("The programmer", "heading"),
            row(label("Port"), self.port, None),
            row(label("Stand-in is"), self.fault, None),
            self.steps,
        )

    def _batch_card(self) -> QWidget:
        self.left_count = label("", "big")
        self.ask = label("", "ask", True)
        self.table = table("Serial", "Result", "What")
        header = self.table.horizontalHeader()
        header.setStretchLastSection(True)
        self.one_button = button("Flash this board", self.flash_one, True, "Ctrl+B")
        self.all_button = button("Flash all that are left", self.flash_all)
        self.serial = QLineEdit()
        self.serial.setMaximumWidth(110)
        self.serial.setAccessibleName("Serial number")
        return card(
            row(self.left_count, label("boards left to flash", "muted"), None),
            TrustLine(self.session),
            self.ask,
            row(label("Next"), self.serial, self.one_button, self.all_button, None),
            self.table,
        )

    def pull(self) -> None:
        """Read the image and the records."""
        d = self.session.design
        self._ports()
        try:
            chosen = image_of(d, self.session.path)
        except InputError as error:
            self.image = self.target_found = None
            self.file.setText(error.message)
            self.sha.setText(f"{error.where}. {error.hint}")
            fill(self.ranges, [])
            self.fit.setText("")
        else:
            self._show_image(chosen)
        self.bar.show_image(self.image, self.target_found)
        self._show_batch()

    def _show_image(self, chosen: tuple[Image, Target] | None) -> None:
        if chosen is None:
            self.image = self.target_found = None
            self.file.setText("No image chosen yet")
            return
        self.image, self.target_found = chosen
        self.target.blockSignals(True)
        self.target.setCurrentText(self.target_found.name)
        self.target.blockSignals(False)
        self.file.setText(f"{self.image.name} · {self.image.size:,} bytes")
        self.sha.setText(f"SHA-256 {self.image.sha256[:32]}\n{self.image.sha256[32:]}")
        fill(
            self.ranges,
            [[f"0x{s.address:08X}", f"0x{s.end - 1:08X}", f"{len(s.data):,}"] for s in self.image.segments],
            (2,),
        )
        wired = self.session.wired
        findings = [*controller_findings(wired), *fit_findings(self.image, self.target_found)]
        bad = [f for f in findings if f.severity <= Severity.FIX]
        self.fit.setObjectName("bad" if bad else "good")
        self.fit.style().polish(self.fit)
        self.fit.setText(" ".join(f"{f.title}. {f.detail}" for f in bad or findings))

    def _ports(self) -> None:
        from serial.tools import list_ports

        names = [STAND_IN, *(p.device for p in list_ports.comports())]
        if [self.port.itemText(k) for k in range(self.port.count())] != names:
            text = self.port.currentText() or STAND_IN
            self.port.clear()
            self.port.addItems(names)
            self.port.setCurrentText(text)

    def _boards(self) -> dict[str, BoardRecord]:
        return {b.serial: b for b in self.session.boards(self.session.design.revision)}

    def left(self) -> list[str]:
        """Return serial numbers of the batch that do not hold the image chosen now, verified."""
        boards = self._boards()
        sha = self.image.sha256 if self.image else ""
        batch = batch_of(self.session.design).serials(boards.values())
        return [s for s in batch if s not in boards or boards[s].content(sha).verdict != "pass"]

    def _show_batch(self) -> None:
        boards = self._boards()
        sha = self.image.sha256 if self.image else ""
        rows = []
        for serial in batch_of(self.session.design).serials(boards.values()):
            content = boards[serial].content(sha) if serial in boards else Standing("open", "not flashed yet")
            rows.append([serial, content.words if content.verdict != "open" else "—", content.why])
        fill(self.table, rows)
        left = self.left()
        self.left_count.setText(str(len(left)))
        if self.serial.text() not in left:
            self.serial.setText(left[0] if left else "")
        ready = self.image is not None and not self._flashing
        self.one_button.setEnabled(ready and bool(rows))
        self.all_button.setEnabled(ready and bool(left))
        self._show_waiting()

    def _show_waiting(self) -> None:
        """Say which board is asked for next at a real port."""
        if self._waiting and not self._flashing:
            self.ask.setText(f"Take the board out. Put {self._waiting[0]} in, in its boot mode, then press Ctrl+B.")
            self.one_button.setText(f"{self._waiting[0]} is in: flash it")
        else:
            self.ask.setText("")
            self.one_button.setText("Flash this board")
        self.ask.setVisible(bool(self.ask.text()))

    def choose(self) -> None:
        """Ask for an image file."""
        path, _ = QFileDialog.getOpenFileName(
            self, "Choose an image", "", "Images (*.hex *.ihex *.bin *.s19 *.srec *.elf);;All (*)"
        )
        if path:
            self.take_image(Path(path))

    def take_image(self, path: Path) -> None:
        """Copy an image into the project and use it; a damaged one is refused and nothing changes."""
        target = find_target(self.target.currentText())
        try:
            check_name(path.name, "file name", str(path))
            data = read_given(path, "image")
            parse_image(data, path.name, target.flash_start)
            if path.resolve() != (self.session.path / "firmware" / path.name).resolve():
                write_inside(self.session.path, f"firmware/{path.name}", data)
        except ZestyError as error:
            self.session.failed.emit(error)
            return
        except OSError as error:
            self.session.failed.emit(StoreError(f"Could not copy it: {error.strerror}", str(path), "Check the folder"))
            return
        spec = ImageSpec(file=path.name, target=target.name)
        self.session.do(f"Image {path.name}", lambda d: edits.set_images(d, [spec]))

    def _set_target(self, name: str) -> None:
        images = [ImageSpec(file=i.file, target=name, variant=i.variant) for i in self.session.design.images]
        if images:
            self.session.do(f"Target {name}", lambda d: edits.set_images(d, images))

    def flash_one(self) -> None:
        """Flash the board named in the field; while a batch is under way, the one that was asked for."""
        if self._waiting:
            self.serial.setText(self._waiting[0])
        boards = self._boards()
        try:
            serial = chosen_serial(self.serial.text(), batch_of(self.session.design), boards.values())
        except ZestyError as error:
            self.session.failed.emit(error)
            return
        self._flash([serial])

    def flash_all(self) -> None:
        """Flash every board that is left. At a real port one at a time: the next is asked for."""
        left = self.left()
        if self._simulated:
            self._flash(left)
        else:
            self._waiting = left
            self.flash_one()

    @property
    def _simulated(self) -> bool:
        return self.port.currentText().strip() in ("", STAND_IN)

    def _flash(self, serials: list[str]) -> None:
        design, session = self.session.design, self.session
        if not serials or self._flashing:
            return
        port, fault, simulated = self.port.currentText().strip(), FAULTS[self.fault.currentText()], self._simulated
        try:
            job = flash_job(session.wired.with_design(design), session.path)
            records = session.records
            book(records, batch_of(design), serials)
            if simulated:
                refuse_simulated_on_real(records, serials)
        except ZestyError as error:
            session.failed.emit(error)
            return
        self._flashing = True

        def work(report: Any) -> int:
            for k, serial in enumerate(serials):

                def part(share: float, text: str, k: int = k, serial: str = serial) -> bool:
                    return bool(report((k + share) / len(serials), f"{serial}: {text}"))

                if simulated:
                    flash_simulated(job, serial, records, fault, part)
                else:
                    flash_board(open_port(port), port, job, serial, records, "real", part)
            return len(serials)

        def failed(error: Any) -> None:
            self._flashing = False
            self._waiting = []
            session.records_changed.emit()
            if error is not None:
                session.failed.emit(error)

        def done(count: int) -> None:
            self._flashing = False
            self._waiting = [s for s in self._waiting if s not in serials]
            said = " on stand-in targets: simulated" if simulated else ""
            session.message.emit(f"{count} flashed, read back and verified{said}")
            session.records_changed.emit()

        session.jobs.start("Flashing", work, done, failed)

    def actions_here(self) -> list[Action]:
        """Return what can be done here."""
        return [
            Action("Flash the next board", "Ctrl+B", self.flash_one),
            Action("Flash all boards that are left", "Ctrl+Shift+B", self.flash_all),
            Action("Choose a firmware image", "Ctrl+O", self.choose),
        ]
