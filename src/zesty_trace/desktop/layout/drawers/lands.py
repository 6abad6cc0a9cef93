"""Land patterns: that of the picked part, one of your own drawn as you type, and whether the part in the hand fits."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QComboBox, QFileDialog, QFormLayout, QLineEdit, QPlainTextEdit, QWidget

from zesty_trace.core.catalogue.kind import PackageSpec
from zesty_trace.core.catalogue.land_patterns import LandPattern, land_pattern
from zesty_trace.core.catalogue.lands.check import check_package
from zesty_trace.core.catalogue.lands.fit import Measured, check_fit
from zesty_trace.core.catalogue.lands.own import spec_from_table, spec_from_words
from zesty_trace.core.design import edits
from zesty_trace.core.progress import Report
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.canvas import Canvas
from zesty_trace.desktop.kit.lettering import Lettering, draw_text
from zesty_trace.desktop.kit.widgets import button, label, row
from zesty_trace.desktop.project.drawer import Drawer, wrapped
from zesty_trace.errors import InputError, ZestyError
from zesty_trace.journey.kinds import keep_package

MEASURES = {
    "lead": "Thickest lead",
    "pitch": "Lead to lead",
    "rows": "Row to row",
    "over": "Over its ends",
    "foot": "End of a terminal",
    "width": "Width of a terminal",
}
DENSITIES = {"nominal": "nominal", "most": "most solder: by hand, vibration", "least": "least: tight boards"}


class PatternCanvas(Canvas):
    """Draws one land pattern with its numbers."""

    def __init__(self) -> None:
        super().__init__(y_up=True)
        self.pattern: LandPattern | None = None
        self.setFixedHeight(220)
        self.setAccessibleName("Land pattern")

    def show_pattern(self, pattern: LandPattern | None) -> None:
        """Show another one."""
        self.pattern = pattern
        self.fit()

    def scene_rect(self) -> QRectF:
        """Return its courtyard with a margin."""
        if self.pattern is None:
            return QRectF(-2, -2, 4, 4)
        x0, y0, x1, y1 = (v / 1e6 for v in self.pattern.courtyard)
        return QRectF(x0, y0, x1 - x0, y1 - y0).adjusted(-0.4, -0.4, 0.4, 0.4)

    def paint_scene(self, p: QPainter) -> None:
        """Draw courtyard, body, pads, windows of the paste, and the mark of pin 1."""
        if self.pattern is None:
            return
        t, made = theme.current(), self.pattern
        thin = 0.02 + self.scene_rect().width() / 400
        dashed = QPen(t.color("muted"), thin)
        dashed.setStyle(Qt.PenStyle.DashLine)
        p.setPen(dashed)
        x0, y0, x1, y1 = (v / 1e6 for v in made.courtyard)
        p.drawRect(QRectF(x0, y0, x1 - x0, y1 - y0))
        p.setPen(Qt.PenStyle.NoPen)
        for pad in made.pads:
            p.setBrush(t.color("copper") if pad.plated else t.color("muted"))
            self._shape(p, pad.x_nm, pad.y_nm, pad.width_nm, pad.height_nm, pad.shape != "rect")
            if pad.drill_nm:
                p.setBrush(t.color("sheet"))
                long = max(pad.slot_nm, pad.drill_nm)
                wide, high = (long, pad.drill_nm) if pad.width_nm >= pad.height_nm else (pad.drill_nm, long)
                self._shape(p, pad.x_nm, pad.y_nm, wide, high, True)
        p.setBrush(t.color("lemon", 160))
        for w in made.windows:
            self._shape(p, w.x_nm, w.y_nm, w.width_nm, w.height_nm, False)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(t.color("ink"), thin * 1.5))
        x0, y0, x1, y1 = (v / 1e6 for v in made.body)
        p.drawRect(QRectF(x0, y0, x1 - x0, y1 - y0))
        if made.mark:
            p.setBrush(t.color("ink"))
            p.drawEllipse(QPointF(made.mark[0] / 1e6, made.mark[1] / 1e6), thin * 4, thin * 4)
        self._numbers(p)

    def _shape(self, p: QPainter, x: float, y: float, w: float, h: float, rounded: bool) -> None:
        box = QRectF((x - w / 2) / 1e6, (y - h / 2) / 1e6, w / 1e6, h / 1e6)
        corner = min(box.width(), box.height()) / 2 if rounded else 0.0
        p.drawRoundedRect(box, corner, corner)

    def _numbers(self, p: QPainter) -> None:
        assert self.pattern is not None
        for pad in self.pattern.pads:
            size = min(pad.height_nm, pad.width_nm) / 1e6 * 0.6
            if pad.number and size * self.scale > 7:
                p.save()
                p.translate(pad.x_nm / 1e6, pad.y_nm / 1e6)
                p.scale(1, -1)
                draw_text(p, Lettering(0, 0, pad.number, size, "ink", "center", True))
                p.restore()


class LandsDrawer(Drawer):
    """The pattern of the picked part; below it one's own, and the fit."""

    title = "Land patterns"

    def build(self) -> None:
        """Make the fields."""
        self.ref = ""
        self.made: PackageSpec | None = None
        self.canvas = PatternCanvas()
        self.package, self.density = QComboBox(), QComboBox()
        for name, words in DENSITIES.items():
            self.density.addItem(words, name)
        self.name, self.words = QLineEdit(), QPlainTextEdit()
        self.name.setPlaceholderText("MY-RELAY")
        self.words.setFixedHeight(92)
        self.words.setTabChangesFocus(True)
        self.words.setAccessibleName("Dimensions, or a table of pads")
        self.words.setPlaceholderText(
            "In mm: family=gull count=8 pitch=1.27 length=5.8..6.2 foot=0.4..1.27 width=0.31..0.51 body=3.9,4.9\n"
            "or lines of pads: number x y width height [shape] [drill] [slot]"
        )
        self.said, self.fit_said = wrapped(), wrapped("Measure the part, in mm; what is left empty is not checked.")
        form = QFormLayout()
        form.setVerticalSpacing(6)
        form.addRow("Package", self.package)
        form.addRow("Solder", self.density)
        holder = QWidget()
        holder.setLayout(form)
        self.measures = {name: QLineEdit() for name in MEASURES}
        fit_form = QFormLayout()
        fit_form.setVerticalSpacing(4)
        for name, line in self.measures.items():
            line.setPlaceholderText("mm")
            fit_form.addRow(MEASURES[name], line)
            line.textEdited.connect(lambda _t: self.check())
        fit_holder = QWidget()
        fit_holder.setLayout(fit_form)
        name_form = QFormLayout()
        name_form.addRow("Its name", self.name)
        name_holder = QWidget()
        name_holder.setLayout(name_form)
        self.keep_button = button("Keep it", self.keep, True)
        self.use_button = button("Use it for the picked part", self.use)
        for each in (
            self.canvas,
            holder,
            self.said,
            label("Does the part in the hand fit?", "heading"),
            fit_holder,
            self.fit_said,
            label("One of your own", "heading"),
            wrapped("Dimensions begin with those of the package above; say what differs. Or paste a table of pads."),
            self.words,
            name_holder,
            row(self.keep_button, button("From a DXF …", self.from_dxf), None),
            row(self.use_button, None),
        ):
            self.body.addWidget(each)
        self.body.addStretch(1)
        self.package.currentTextChanged.connect(lambda _t: self.show_pattern())
        self.density.currentIndexChanged.connect(lambda _i: self.show_pattern())
        self.words.textChanged.connect(self.show_pattern)
        self.name.textEdited.connect(lambda _t: self.show_pattern())

    def pull(self) -> None:
        """Fill the packages, once for each catalogue."""
        names = sorted(self.session.catalogue.packages)
        if [self.package.itemText(k) for k in range(self.package.count())] != names:
            kept = self.package.currentText()
            self.package.blockSignals(True)
            self.package.clear()
            self.package.addItems(names)
            self.package.setCurrentText(kept or names[0])
            self.package.blockSignals(False)
        self.show_pattern()

    def pick(self, ref: str) -> None:
        """Show the pattern of a part."""
        self.ref = ref
        if ref in self.session.design.parts:
            self.package.setCurrentText(self.session.wired.package(ref).id)
        self.show_pattern()

    def spec(self) -> PackageSpec:
        """Return the package as it stands: the chosen one, or one's own. InputError."""
        base = self.session.catalogue.package(self.package.currentText())
        text = self.words.toPlainText().strip()
        name = self.name.text().strip() or ("OWN" if text else base.id)
        if text and "=" not in text:
            return spec_from_table(name, text, base.height)
        density = self.density.currentData()
        words = text.split()
        if base.length[1] and density != base.density:
            words.append(f"density={density}")
        start = None if any(w.startswith("family=") for w in words) else base
        return spec_from_words(name, words, start) if words else base

    def show_pattern(self) -> None:
        """Draw it, and say what it is; what cannot be is said instead."""
        text = self.words.toPlainText().strip()
        self.keep_button.setEnabled(False)
        try:
            self.made = self.spec()
            pattern = check_package(self.made, self.made.id)
        except ZestyError as error:
            self._tell_in(self.said, str(error), "bad")
            return
        self.canvas.show_pattern(pattern)
        self.density.setEnabled(bool(self.made.length[1]))
        x0, y0, x1, y1 = (v / 1e6 for v in pattern.courtyard)
        words = f"{len(pattern.pads)} pads, {x1 - x0:.2f} × {y1 - y0:.2f} mm with its courtyard, "
        words += f"{self.made.height:g} mm tall. "
        first = pattern.pads[0]
        words += f"Pad {first.number}: {first.width_nm / 1e6:.2f} × {first.height_nm / 1e6:.2f} mm"
        words += f", hole {first.drill_nm / 1e6:.2f} mm." if first.drill_nm else "."
        words += " Calculated by IPC-7351B." if self.made.length[1] else ""
        self._tell_in(self.said, words, "muted")
        own = bool(text) or (self.made.density != self.session.catalogue.package(self.package.currentText()).density)
        self.keep_button.setEnabled(own and bool(self.name.text().strip()))
        self.use_button.setEnabled(self.ref in self.session.design.parts and not own)
        self.use_button.setText(
            f"Use it for {self.ref}" if self.ref in self.session.design.parts else "Pick a part to use it"
        )
        self.check()

    def check(self) -> None:
        """Say whether the measured part fits what is shown."""
        if self.made is None:
            return
        said: dict[str, float] = {}
        try:
            for name, line in self.measures.items():
                if line.text().strip():
                    said[name] = float(line.text().replace("mm", "").replace(",", "."))
            if not said:
                self._tell_in(self.fit_said, "Measure the part, in mm; what is left empty is not checked.", "muted")
                return
            fit = check_fit(self.made, Measured(**said))
        except ValueError:
            self._tell_in(self.fit_said, "Numbers in mm, for example 2.54", "bad")
            return
        except InputError as error:
            self._tell_in(self.fit_said, str(error), "bad")
            return
        head = {True: "It fits. ", False: "It does not fit. ", None: ""}[fit.fits]
        if fit.fits and fit.bend_mm:
            head = "It fits once its legs are bent. "
        self._tell_in(
            self.fit_said, head + " ".join(fit.sentences), {True: "good", False: "bad", None: "muted"}[fit.fits]
        )

    def _tell_in(self, where: QWidget, text: str, name: str) -> None:
        where.setObjectName(name)
        where.setText(text)  # type: ignore[attr-defined]
        where.style().polish(where)

    def keep(self) -> None:
        """Keep one's own package, in one's own folder and in the project."""
        try:
            spec = self.spec()
            path = keep_package(spec, self.session.path)
        except ZestyError as error:
            self.tell(error)
            return
        self.session.refresh_catalogue()
        self.words.clear()
        self.name.clear()
        self.pull()
        self.package.setCurrentText(spec.id)
        self.session.message.emit(f"{spec.id} is kept in {path.parent}")

    def from_dxf(self, name: str = "") -> None:
        """Keep a package from a drawing."""
        name = (
            name
            or QFileDialog.getOpenFileName(self, "Open a land pattern", str(self.session.path), "DXF drawings (*.dxf)")[
                0
            ]
        )
        if not name:
            return
        from zesty_trace.journey.foreign import package_of

        title, folder = self.name.text().strip() or Path(name).stem, self.session.path
        height_mm = self.made.height if self.made else 1.0

        def work(_report: Report) -> PackageSpec:
            spec = package_of(Path(name), title, height_mm, drawn=True)
            keep_package(spec, folder)
            return spec

        def done(spec: PackageSpec) -> None:
            self.session.refresh_catalogue()
            self.pull()
            self.package.setCurrentText(spec.id)

        def failed(error: ZestyError | None) -> None:
            if error is not None:
                self.tell(error)

        self.session.jobs.start("Reading the drawing", work, done, failed)

    def use(self) -> None:
        """Give the picked part this package, if it has a pad for each pin."""
        ref, name = self.ref, self.package.currentText()
        if ref not in self.session.design.parts:
            return
        kind = self.session.wired.kind(ref)
        pads = {p.number for p in land_pattern(self.session.catalogue.package(name)).pads}
        missing = [p.number for p in kind.pins if p.number not in pads]
        if missing:
            self.tell(InputError(f"{name} has no pad {missing[0]} for {ref}", "package", "Choose another package"))
            return
        self.session.do(f"{ref} in {name}", lambda d: edits.change_part(d, ref, package=name))
