"""Board and object: the outline as numbers or from a drawing, who makes it, and how the parts meet the object."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from msgspec.structs import replace
from PySide6.QtWidgets import QComboBox, QFileDialog, QFormLayout, QLineEdit, QTableWidgetItem, QWidget

from zesty_trace.core.board.object import ObjectDrawing, misfits, move_to_template, set_object
from zesty_trace.core.board.outline import dxf_of, own_cutouts, set_form, set_rings
from zesty_trace.core.board.rule_sets import DEFAULT, RuleSet, set_rules, shipped_sets
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Form, Outline, Rules, TemplateHole
from zesty_trace.core.quantities import mm, parse_length_nm, say_count, say_mm
from zesty_trace.desktop.kit.widgets import button, fill, fit_height, label, row, table
from zesty_trace.desktop.project.drawer import Drawer, wrapped
from zesty_trace.errors import ZestyError
from zesty_trace.files import write_given
from zesty_trace.journey.limits import rule_sets_for

SHAPES = {
    "Rectangle": "rectangle",
    "Circle": "circle",
    "Ring": "ring",
    "Regular polygon": "polygon",
    "Free, from a drawing": "",
}
ASKS = {  # shape: which numbers it has, and what they are called
    "rectangle": {"width_nm": "Wide", "height_nm": "High", "corner_nm": "Corner radius"},
    "circle": {"width_nm": "Diameter"},
    "ring": {"width_nm": "Outside diameter", "inside_nm": "Inside diameter"},
    "polygon": {"sides": "Sides", "width_nm": "Across its corners"},
    "": {},
}
DRAWINGS = "Drawings (*.dxf *.svg)"


class BoardDrawer(Drawer):
    """The outline, the board rules and the template of the object."""

    title = "Board and object"

    def build(self) -> None:
        """Make the fields."""
        self._loading = False
        self.sets: dict[str, RuleSet] = {}
        self.shape = QComboBox()
        self.shape.addItems(list(SHAPES))
        self.numbers = {f: QLineEdit() for f in ("width_nm", "height_nm", "corner_nm", "inside_nm", "sides")}
        self.form = QFormLayout()
        self.form.setVerticalSpacing(6)
        self.form.addRow("Outline", self.shape)
        for name, line in self.numbers.items():
            line.setAccessibleName(name)
            self.form.addRow(name, line)
            line.editingFinished.connect(self._typed)
        self.rules = QComboBox()
        self.form.addRow("Made by", self.rules)
        holder = QWidget()
        holder.setLayout(self.form)
        self.size_said, self.rules_said, self.object_said = wrapped(), wrapped(), wrapped()
        self.template = table("Part", "dx mm", "dy mm", "turn °", "within mm")
        self.template.setEditTriggers(self.template.EditTrigger.DoubleClicked | self.template.EditTrigger.AnyKeyPressed)
        self.template.itemChanged.connect(self._tolerance_typed)
        self.zones = table("Zone or cut-out", "")
        for each in (
            holder,
            row(button("Open a drawing …", self.open_outline), button("Write as DXF …", self.write_dxf), None),
            self.size_said,
            self.rules_said,
            label("The object it goes into", "heading"),
            row(button("Open its drawing …", self.open_object), button("Print 1:1 …", self.print_it), None),
            self.object_said,
            self.template,
            row(button("Move parts to their holes", self.move_there), None),
            self.zones,
            row(button("Take the picked one off", self.drop_zone), None),
            wrapped(
                "Say below: cut-out 10 x 5 at 20, 20 · slot 20, 20 to 30, 20 wide 2 · "
                "keep-out 10 x 5 at 40, 10 height 3"
            ),
        ):
            self.body.addWidget(each)
        self.body.addStretch(1)
        self.shape.activated.connect(lambda _i: self._shape_picked())
        self.rules.activated.connect(lambda _i: self._rules_picked())

    def pull(self) -> None:
        """Show the board as it is."""
        self._loading = True
        board = self.session.design.board
        form = board.form
        shape = form.shape if form else ""
        self.shape.setCurrentIndex(list(SHAPES.values()).index(shape))
        self._show_fields(shape)
        for name, line in self.numbers.items():
            value = getattr(form, name) if form else 0
            line.setText(str(value) if name == "sides" else f"{mm(value):g} mm")
        if not self.sets:
            self._read_sets()
        plain = replace(board.rules, thickness_nm=Rules().thickness_nm) == Rules()
        known = DEFAULT if plain else board.rules.made_by
        self.rules.setCurrentIndex(max(0, self.rules.findData(known)))
        self._say()
        self._fill()
        self._loading = False

    def _read_sets(self) -> None:
        """Read the rule sets from the shipped file and the board houses, once for each opening of the project."""
        try:
            self.sets = rule_sets_for(self.session.path)
        except ZestyError as error:
            self.tell(error)
            self.sets = dict(shipped_sets())
        self.rules.clear()
        self.rules.addItem("Numbers of my own", "")
        for name, one in self.sets.items():
            self.rules.addItem(one.title, name)

    def _show_fields(self, shape: str) -> None:
        for name, line in self.numbers.items():
            asked = ASKS[shape].get(name)
            self.form.setRowVisible(line, asked is not None)
            if asked:
                self.form.labelForField(line).setText(asked)  # type: ignore[attr-defined]

    def _say(self) -> None:
        board, brief = self.session.design.board, self.session.design.brief
        r = board.rules
        if board.outline:
            xs, ys = zip(*board.outline, strict=True)
            size = f"{mm(max(xs) - min(xs)):g} × {mm(max(ys) - min(ys)):g} mm"
            wanted = f"{mm(brief.case_width_nm):g} × {mm(brief.case_height_nm):g} mm"
            cuts = f"{len(board.cutouts)} cut-out{'' if len(board.cutouts) == 1 else 's'}"
            self.size_said.setText(f"The board is {size}, {cuts}. The brief says {wanted}.")
        else:
            self.size_said.setText("There is no outline yet. Choose a shape, or open a drawing.")
        self.rules_said.setText(
            f"Gap {say_mm(r.clearance_nm)}, track from {say_mm(r.least_track_nm)}, drill from {say_mm(r.drill_nm)}, "
            f"ring {say_mm(r.annular_nm)}, edge {say_mm(r.edge_nm)}, {say_count(r.layers, 'layer')}."
        )

    def _fill(self) -> None:
        design = self.session.design
        found = misfits(design)
        bad = [m.ref for m in found if not m.fits]
        if not design.brief.template:
            self.object_said.setText("The object holds no part yet: open its drawing, or name parts in Brief.")
        elif bad:
            self.object_said.setText(f"{', '.join(bad)}: off their holes. Move them there, or allow more.")
        else:
            self.object_said.setText(f"{len(found)} of {len(design.brief.template)} parts are within tolerance.")
        rows = [
            [m.ref, f"{m.dx_mm:+.2f}", f"{m.dy_mm:+.2f}", f"{m.turn_deg:+.1f}", f"{m.tolerance_mm:g}"] for m in found
        ]
        fill(self.template, rows, (1, 2, 3, 4))
        fit_height(self.template)
        zones = [[f"cut-out {k + 1}", "hole in the board"] for k in range(len(design.board.cutouts))]
        zones += [
            [z.name, f"room {mm(z.height_nm):g} mm" if z.height_nm is not None else "closed"]
            for z in design.board.keepouts
        ]
        fill(self.zones, zones)
        fit_height(self.zones, 5)

    def _shape_picked(self) -> None:
        shape = list(SHAPES.values())[self.shape.currentIndex()]
        if not shape:
            self.open_outline()
            return
        self._show_fields(shape)
        old, brief = self.session.design.board.form, self.session.design.brief
        start = old or Form(shape="rectangle", width_nm=brief.case_width_nm, height_nm=brief.case_height_nm)
        wide = start.width_nm or brief.case_width_nm
        form = Form(
            shape=shape,  # type: ignore[arg-type]
            width_nm=wide,
            height_nm=start.height_nm or wide,
            corner_nm=start.corner_nm,
            inside_nm=min(start.inside_nm, wide // 2) or wide // 2,
            sides=start.sides or 6,
        )
        self.session.do(f"The outline is a {shape}", lambda d: set_form(d, form))

    def _typed(self) -> None:
        """Take the numbers over."""
        form = self.session.design.board.form
        if self._loading or form is None:
            return
        try:
            said = {
                n: parse_length_nm(line.text())
                for n, line in self.numbers.items()
                if n != "sides" and n in ASKS[form.shape]
            }
            sides = int(self.numbers["sides"].text()) if form.shape == "polygon" else form.sides
        except (ZestyError, ValueError) as error:
            if isinstance(error, ZestyError):
                self.tell(error)
            self.pull()
            return
        fresh = Form(**{**{f: getattr(form, f) for f in Form.__struct_fields__}, **said, "sides": sides})
        if fresh != form and not self.session.do("Outline changed", lambda d: set_form(d, fresh)):
            self.pull()

    def _rules_picked(self) -> None:
        name = self.rules.currentData()
        if name:
            self.session.do(f"Board rules: {self.sets[name].title}", lambda d: set_rules(d, name, self.sets))

    def _tolerance_typed(self, item: QTableWidgetItem) -> None:
        if self._loading or item.column() != 4:
            return
        found = misfits(self.session.design)
        ref = found[item.row()].ref
        try:
            tolerance = parse_length_nm(item.text(), ref)
        except ZestyError as error:
            self.tell(error)
            self.pull()
            return
        holes = tuple(
            TemplateHole(
                **{**{f: getattr(h, f) for f in TemplateHole.__struct_fields__}, "tolerance_nm": max(0, tolerance)}
            )
            if h.ref == ref
            else h
            for h in self.session.design.brief.template
        )
        self.session.do(f"{ref} may be {mm(tolerance):g} mm off", lambda d: edits.set_brief(d, template=holes))

    def _chosen(self, title: str, kinds: str, save: bool = False) -> str:
        ask = QFileDialog.getSaveFileName if save else QFileDialog.getOpenFileName
        return ask(self, title, str(self.session.path), kinds)[0]

    def open_outline(self, name: str = "") -> None:
        """Take the outline from a drawing."""
        name = name or self._chosen("Open an outline", DRAWINGS)
        if name:
            from zesty_trace.journey.foreign import outline_of

            self._read("Reading the outline", lambda: outline_of(Path(name)), self._take_outline)

    def _take_outline(self, rings: list[Outline]) -> None:
        self._do("", lambda _n: self.session.do("Outline from a drawing", lambda d: set_rings(d, rings)))
        self.pull()

    def _read(self, title: str, work: Callable[[], Any], done: Callable[[Any], None]) -> None:
        """Read a drawing as a job; what is wrong with it is said here."""

        def failed(error: ZestyError | None) -> None:
            if error is not None:
                self.tell(error)

        self.session.jobs.start(title, lambda _report: work(), done, failed)

    def open_object(self, name: str = "") -> None:
        """Take template, zones and outline from a drawing of the object."""
        name = name or self._chosen("Open a drawing of the object", "DXF drawings (*.dxf)")
        if name:
            from zesty_trace.journey.foreign import object_of

            design = self.session.design
            self._read("Reading the drawing", lambda: object_of(Path(name), design), self._take_object)

    def _take_object(self, drawing: ObjectDrawing) -> None:
        words = f"{len(drawing.holes)} holes and {len(drawing.zones)} zones of the object"
        if drawing.unnamed:
            words += f"; {drawing.unnamed} holes without a part's name left out"
        self._do("", lambda _n: self.session.do(words, lambda d: set_object(d, drawing)))

    def _do(self, name: str, work: Callable[[str], object]) -> bool:
        """Work on a file, and say what went wrong; return whether nothing did."""
        try:
            work(name)
        except ZestyError as error:
            self.tell(error)
            return False
        return True

    def write_dxf(self, name: str = "") -> None:
        """Write the outline as a drawing."""
        name = name or self._chosen("Write the outline", "DXF drawings (*.dxf)", save=True)
        if name:
            self._do(name, lambda n: write_given(Path(n), dxf_of(self.session.design).encode()))

    def print_it(self, name: str = "") -> None:
        """Write the board at 1:1 as a PDF."""
        from zesty_trace.desktop.layout.paper import write_true_size

        name = name or self._chosen("Print 1:1", "PDF (*.pdf)", save=True)
        if name and self._do(name, lambda n: write_true_size(Path(n), self.session.wired)):
            self.session.message.emit(f"Wrote {name}. Print it at 100 %, and measure the bar.")

    def move_there(self) -> None:
        """Put the parts of the template where their holes are."""
        self.session.do("Parts moved to their holes", move_to_template)

    def drop_zone(self) -> None:
        """Take the picked cut-out or zone off."""
        k = self.zones.currentRow()
        cuts = self.session.design.board.cutouts
        if k < 0:
            self.session.message.emit("Pick a cut-out or a zone first")
        elif k < len(cuts):
            left = (*cuts[:k], *cuts[k + 1 :])
            form = None if cuts[k] not in own_cutouts(self.session.design) else self.session.design.board.form
            self.session.do("Cut-out taken off", lambda d: replace(d, board=replace(d.board, cutouts=left, form=form)))
        else:
            zones = self.session.design.board.keepouts
            rest = (*zones[: k - len(cuts)], *zones[k - len(cuts) + 1 :])
            self.session.do("Zone taken off", lambda d: replace(d, board=replace(d.board, keepouts=rest)))
