"""Variants and options: which boards have which parts, what an option needs, and its firmware switch."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QHeaderView, QLineEdit, QTableWidgetItem

from zesty_trace.core.design import group_edits
from zesty_trace.core.design.model import Option
from zesty_trace.desktop.kit.text import tip
from zesty_trace.desktop.kit.widgets import button, fit_height, label, row, table
from zesty_trace.desktop.schematic.drawers.base import Drawer, wrapped

ALL = "Every part"
OPTION_HINT = (
    "Select its parts on the sheet, name the option, and add it. A ticked variant has it, with all that it needs."
)


class OptionsDrawer(Drawer):
    """Variants on top, options below."""

    key, title, tip = "options", "Options", "Which boards get which parts"

    def build(self) -> None:
        """Make the lists."""
        self._loading = False
        self.shown = QComboBox()
        self.shown.setAccessibleName("Show the boards of")
        self.shown.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.variants = table("Variant", "Parts", "Firmware switches")
        self.variants.horizontalHeader().setStretchLastSection(True)
        self.variant_name = QLineEdit()
        self.variant_name.setPlaceholderText("Small")
        self.add_variant_button = button("Add a variant", self.add_variant)
        self.drop_variant_button = button("Delete it", self.drop_variant)
        self.options = table("Option", "Parts", "Needs")
        self.options.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.name, self.needs, self.switch = QLineEdit(), QLineEdit(), QLineEdit()
        self.name.setPlaceholderText("Humidity sensor")
        self.needs.setPlaceholderText("other options, by commas")
        self.switch.setPlaceholderText("WITH_HUMIDITY=1")
        self.add_button = button("Add from selection", self.add_option, True)
        self.drop_button = button("Forget it", self.drop_option)
        for each in (
            row(label("On the sheet"), self.shown, None),
            self.variants,
            row(self.variant_name, self.add_variant_button, self.drop_variant_button),
            label("Options", "heading"),
            wrapped(OPTION_HINT),
            self.options,
            row(label("Name"), self.name),
            row(label("Needs"), self.needs),
            row(label("Switch"), self.switch),
            row(self.add_button, self.drop_button, None),
        ):
            self.body.addWidget(each)
        self.body.addStretch(1)
        self.shown.activated.connect(lambda _k: self._show_variant())
        self.options.itemChanged.connect(self._ticked)
        self.options.itemSelectionChanged.connect(self._picked)
        self.variant_name.returnPressed.connect(self.add_variant)

    def pull(self) -> None:
        """Show variants and options."""
        design = self.session.design
        self._loading = True
        self.shown.clear()
        self.shown.addItems([ALL, *(f"As on {v}" for v in design.variants)])
        names = ["", *design.variants]
        self.shown.setCurrentIndex(names.index(self.model.variant) if self.model.variant in names else 0)
        self.variants.setRowCount(len(design.variants))
        for k, variant in enumerate(design.variants):
            count = sum(p.fitted(variant) for p in design.parts.values())
            cells = (
                variant,
                f"{count} of {len(design.parts)}",
                "  ".join(group_edits.switches(design, variant)) or "none",
            )
            for c, text in enumerate(cells):
                self.variants.setItem(k, c, QTableWidgetItem(text))
        fit_height(self.variants)
        self._fill_options()
        fit_height(self.options)
        self.drop_variant_button.setEnabled(bool(design.variants))
        self.drop_button.setEnabled(bool(design.options))
        self._loading = False

    def _fill_options(self) -> None:
        design = self.session.design
        self.options.setColumnCount(3 + len(design.variants))
        self.options.setHorizontalHeaderLabels(["Option", "Parts", "Needs", *design.variants])
        self.options.setRowCount(len(design.options))
        fixed = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        for k, option in enumerate(design.options):
            for c, text in enumerate((option.name, " ".join(option.refs), ", ".join(option.needs))):
                item = QTableWidgetItem(text)
                item.setFlags(fixed)
                item.setToolTip(tip(f"{text}  {option.switch}" if c == 0 else text))
                self.options.setItem(k, c, item)
            for c, variant in enumerate(design.variants, 3):
                there = all(design.parts[r].fitted(variant) for r in option.refs if r in design.parts)
                item = QTableWidgetItem()
                item.setFlags(fixed | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(Qt.CheckState.Checked if there else Qt.CheckState.Unchecked)
                self.options.setItem(k, c, item)

    def _show_variant(self) -> None:
        number = self.shown.currentIndex()
        self.model.show_variant(self.session.design.variants[number - 1] if number > 0 else "")

    def add_variant(self) -> None:
        """Add a variant of the typed name."""
        name = self.variant_name.text()
        if self.session.do(f"Variant {name}", lambda d: group_edits.add_variant(d, name)):
            self.variant_name.clear()

    def drop_variant(self) -> None:
        """Delete the picked variant."""
        number = self.variants.currentRow()
        if number < 0:
            self.session.message.emit("Pick a variant first")
            return
        name = self.session.design.variants[number]
        self.session.do(f"Variant {name} deleted", lambda d: group_edits.drop_variant(d, name))

    def _ticked(self, item: QTableWidgetItem) -> None:
        if self._loading or item.column() < 3:
            return
        design = self.session.design
        option, variant = design.options[item.row()], design.variants[item.column() - 3]
        on = item.checkState() == Qt.CheckState.Checked
        word = "on" if on else "not on"
        label_ = f"{option.name} {word} {variant}"
        if not self.session.do(label_, lambda d: group_edits.fit_option(d, option.name, variant, on)):
            self.pull()

    def _picked(self) -> None:
        number = self.options.currentRow()
        if not self._loading and 0 <= number < len(self.session.design.options):
            option = self.session.design.options[number]
            self.model.select(option.refs)
            self.name.setText(option.name)
            self.needs.setText(", ".join(option.needs))
            self.switch.setText(option.switch)

    def add_option(self) -> None:
        """Make an option of the selected parts, or change the one of that name."""
        refs = tuple(self.model.selection)
        needs = tuple(n.strip() for n in self.needs.text().split(",") if n.strip())
        option = Option(name=self.name.text().strip(), refs=refs, needs=needs, switch=self.switch.text().strip())
        if self.session.do(f"Option {option.name}", lambda d: group_edits.put_option(d, option)):
            for field in (self.name, self.needs, self.switch):
                field.clear()

    def drop_option(self) -> None:
        """Forget the picked option."""
        number = self.options.currentRow()
        if number < 0:
            self.session.message.emit("Pick an option first")
            return
        name = self.session.design.options[number].name
        self.session.do(f"Option {name} forgotten", lambda d: group_edits.drop_option(d, name))
