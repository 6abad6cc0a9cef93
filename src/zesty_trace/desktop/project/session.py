"""The open project: its history, its findings, its records. Views listen and re-read; they write through `do`."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QTimer, Signal

from zesty_trace.core.design.diff import say_acceptance
from zesty_trace.core.design.history import History
from zesty_trace.core.design.model import Design
from zesty_trace.core.design.references import lapsed
from zesty_trace.core.findings import Finding, Severity
from zesty_trace.desktop.project.jobs import Jobs
from zesty_trace.errors import StoreError, ZestyError
from zesty_trace.stations import STATIONS
from zesty_trace.store.autosave import Autosaver
from zesty_trace.store.project import ChangedOutside, FolderGone, ProjectFolder

if TYPE_CHECKING:  # imported when first needed: the window must be up before the heavy libraries are
    from zesty_trace.core.catalogue.kinds import Catalogue
    from zesty_trace.core.circuit.wired import Wired
    from zesty_trace.journey.judges import Judge, Situation
    from zesty_trace.store.board import BoardRecord
    from zesty_trace.store.records import Records

FINDINGS_DELAY_MS = 40
CHECKED_AT_ONCE_BYTES = 1_000_000  # about 30 ms


class Session(QObject):
    """One open project. Signals: the design, the findings, the records changed; something to tell the user."""

    design_changed = Signal()
    findings_changed = Signal()
    records_changed = Signal()
    message = Signal(str)
    failed = Signal(object)
    show_finding = Signal(object)
    autosave_failed = Signal(object)
    written = Signal(float)  # time of the last write, s since 1970
    changed_outside = Signal()
    folder_gone = Signal(object)
    records_damaged = Signal(object)
    records_trust = Signal(str)  # what is wrong with events that are there, "" if nothing
    open_asked = Signal(object)  # another project folder is to be opened

    def __init__(self, folder: ProjectFolder, design: Design, today: date | None = None) -> None:
        super().__init__()
        self.folder = folder
        self.today = today or date.today()
        self.history = History(design)
        self.jobs = Jobs(self)
        self.findings: dict[str, list[Finding]] = {s: [] for s in STATIONS}
        self.findings_of: Wired | None = None
        self.stale: Design | None = None
        self._records: Records | None = None
        self._wired: Wired | None = None
        self._records_error: StoreError | None = None
        self._trust_words = ""
        self._asked: dict[str, tuple[Any, ...]] = {}
        self._judged: dict[str, tuple[tuple[Any, ...], list[Finding]]] = {}
        self._judging: set[str] = set()
        self._waiting: list[tuple[Judge, Situation]] = []
        self.autosave_failed.connect(self._autosave_failed)
        self.autosaver = self._make_autosaver(folder)
        self.jobs.failed.connect(self.failed)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(FINDINGS_DELAY_MS)
        self._timer.timeout.connect(self._check)
        self.records_changed.connect(self._records_moved)

    @property
    def path(self) -> Path:
        """The project folder."""
        return self.folder.path

    @property
    def design(self) -> Design:
        """The design as it is now."""
        return self.history.design

    @cached_property
    def catalogue(self) -> Catalogue:
        """The shipped part kinds and those that travel in the project."""
        from zesty_trace.journey.kinds import project_catalogue

        return project_catalogue(self.path)

    @property
    def wired(self) -> Wired:
        """The design as it is now with its catalogue: one value for as long as neither changes."""
        from zesty_trace.core.circuit.wired import Wired

        design, catalogue = self.design, self.catalogue
        if self._wired is None or self._wired.design is not design or self._wired.catalogue is not catalogue:
            self._wired = Wired(design, catalogue).after(self._wired)
        return self._wired

    def refresh_catalogue(self) -> None:
        """Read the part kinds again, after one was made or changed."""
        self.__dict__.pop("catalogue", None)
        self.design_changed.emit()
        self.check_soon()

    def _make_autosaver(self, folder: ProjectFolder) -> Autosaver:
        return Autosaver(folder, self.autosave_failed.emit, self.written.emit, self.changed_outside.emit)

    def _autosave_failed(self, error: ZestyError) -> None:
        if isinstance(error, FolderGone):
            self.folder_gone.emit(error)
        else:
            self.failed.emit(StoreError(f"Not saved yet, trying again: {error.message}", error.where, error.hint))

    @property
    def records(self) -> Records:
        """The project's records, opened when first asked for. StoreError while they are damaged."""
        if self._records is None:
            from zesty_trace.store.records import Records

            if self._records_error is not None:
                raise self._records_error
            try:
                self._records = Records(self.path, check=False)
            except StoreError as error:
                self._records_error = error
                self.records_damaged.emit(error)
                raise
            self._check_records(self._records)
        return self._records

    def _check_records(self, records: Records) -> None:
        """Check the chain of events where that was not done: at once if it is short, else as a job."""
        from zesty_trace.store.records import NOT_CHECKED

        if records.distrust != NOT_CHECKED:
            return
        if records.path.stat().st_size < CHECKED_AT_ONCE_BYTES:
            records.check()
        else:
            work = lambda _report: records.check()  # noqa: E731
            self.jobs.start("Checking the records", work, lambda _v: self.records_changed.emit(), visible=False)

    def records_words(self) -> str:
        """Return what is wrong with the records, and what to do; "" where nothing is, or there are none yet."""
        from zesty_trace.store.records import NOT_CHECKED, backup_names

        records = self._records
        if records is None or not records.distrust:
            return ""
        if records.distrust == NOT_CHECKED:
            return "The records are being checked: until then no board counts as passed."
        copies = backup_names(self.path)
        mend = f"bring the copy {copies[0]} back (zt records restore)" if copies else "there is no daily copy"
        more = f" and {len(records.wrong) - 1} more" if len(records.wrong) > 1 else ""
        return (
            f"THE RECORDS DO NOT HOLD TOGETHER: {records.wrong[0]}{more}. No board counts as passed. Find out who "
            f"changed the file, then {mend}."
        )

    def take_records(self, why: str) -> bool:
        """Take the records that are there for those of the project, though others were known; whether it worked."""
        from zesty_trace.store.own import person
        from zesty_trace.store.restoring import take_as_they_are

        try:
            count = take_as_they_are(self.path, why, person().name)
        except StoreError as error:
            self.failed.emit(error)
            return False
        self._records_error = None
        self.message.emit(f"The records count as they are: {count} events")
        self.records_changed.emit()
        return True

    def boards(self, revision: str | None = None) -> list[BoardRecord]:
        """Return the boards with their events; none while there are no records, or they are damaged, which is said."""
        from zesty_trace.store.restoring import has_records

        if self._records is None and not has_records(self.path):
            return []
        try:
            boards = self.records.boards(revision)
        except StoreError:
            return []
        if (words := self.records_words()) != self._trust_words:
            self._trust_words = words
            self.records_trust.emit(words)
        return boards

    def bring_records_back(self, backup: str) -> bool:
        """Put a daily copy, or new records (""), in the place of damaged ones, which are kept; whether it worked."""
        from zesty_trace.store.restoring import bring_back

        if self._records is not None:
            self._records.close()
            self._records = None
        try:
            kept = bring_back(self.path, backup)
        except StoreError as error:
            self.failed.emit(error)
            return False
        self._records_error = None
        self.message.emit(f"What was there is kept as {kept.name}" if kept else "New records were begun")
        self.records_changed.emit()
        return True

    def do(self, label: str, edit: Callable[[Design], Design]) -> bool:
        """Apply an edit as one undo step; what it cannot do is told, and changes nothing."""
        before = self.design
        try:
            changed = self.history.do(label, edit)
        except ZestyError as error:
            self.failed.emit(error)
            return False
        if changed:
            gone = lapsed(before, self.design)
            self._after_change()
            self.message.emit(f"{label}. No longer accepted: {'; '.join(map(say_acceptance, gone))}" if gone else label)
        return changed

    def apply_result(self, label: str, base: Design, after: Design) -> bool:
        """Apply what a job worked out from `base`, unless the design has moved on since."""
        if self.design is not base:
            what = "the design changed" if self.history.has_ancestor(base) else "what it started from was undone"
            self.message.emit(f"{label}: {what} meanwhile, so the result was dropped. Start again.")
            return False
        return self.do(label, lambda _design: after)

    def undo(self) -> None:
        """Go one step back."""
        label = self.history.undo()
        if label is None:
            self.message.emit("Nothing to undo")
            return
        self._after_change()
        self.message.emit(f"Undone: {label}")

    def redo(self) -> None:
        """Go one step forward."""
        label = self.history.redo()
        if label is None:
            self.message.emit("Nothing to redo")
            return
        self._after_change()
        self.message.emit(f"Redone: {label}")

    def _after_change(self) -> None:
        self.autosaver.submit(self.design)
        self.design_changed.emit()
        self.check_soon()

    def save(self, over_theirs: bool = False) -> bool:
        """Write `design.json`; whether it worked."""
        try:
            self.autosaver.save(self.design, over_theirs)
        except StoreError as error:
            if isinstance(error, ChangedOutside):
                self.changed_outside.emit()
            elif isinstance(error, FolderGone):
                self.folder_gone.emit(error)
            self.failed.emit(error)
            return False
        self._carry_kinds()
        self.message.emit(f"Saved in {self.path}")
        return True

    def take_theirs(self) -> None:
        """Go on from what another program wrote, as an edit that can be undone."""
        try:
            theirs = self.autosaver.take_theirs()
        except StoreError as error:
            self.failed.emit(error)
            return
        self.do("Taken over from another program", lambda _design: theirs)

    def take_stale(self) -> None:
        """Bring back the edits of a session that ended suddenly, as an edit that can be undone."""
        stale, self.stale = self.stale, None
        if stale is not None:
            self.do("Edits brought back", lambda _design: stale)

    def save_elsewhere(self, path: Path) -> bool:
        """Make the project anew in another folder and go on there; whether it worked."""
        try:
            folder = ProjectFolder.create(path, self.design)
        except StoreError as error:
            self.failed.emit(error)
            return False
        old, self.folder = self.folder, folder
        self.autosaver.close()
        self.autosaver = self._make_autosaver(folder)
        if self._records is not None:
            self._records.close()
            self._records = None
        old.close()
        self._carry_kinds()
        self.message.emit(
            f"Saved in {path}. Records and firmware of the old folder are not there: copy them if you still can."
        )
        self.records_changed.emit()
        return True

    def _carry_kinds(self) -> None:
        """Put the user's own kinds that the design uses into the project.

        The design is saved whether that works or not.
        """
        from zesty_trace.journey.kinds import carry_kinds

        try:
            carry_kinds(self.design, self.path, self.catalogue)
        except ZestyError as error:
            self.failed.emit(error)

    # Findings -----------------------------------------------------------------------------------------------------

    def check_soon(self) -> None:
        """Work the findings out again, off the GUI thread, shortly."""
        self._timer.start()

    def _check(self) -> None:
        """Have each station judged, in a job each, unless what its judge reads is what it read before.

        One job after the other, what most depends on first: side by side they would all be late.
        """
        from zesty_trace.journey.judges import JUDGES, Situation

        try:
            now = Situation(self.wired, self.path, self.today)
        except ZestyError as error:
            self.failed.emit(error)
            return
        self._asked = {judge.station: judge.reads(now) for judge in JUDGES}
        self._waiting = [(j, now) for j in JUDGES if not self._is_judged(j.station)]
        self._start_next()
        self._show_findings()

    def _start_next(self) -> None:
        if self._waiting and not self._judging:
            self._start(*self._waiting.pop(0))

    def _is_judged(self, station: str) -> bool:
        from zesty_trace.core.circuit.wired import same

        kept = self._judged.get(station)
        return kept is not None and same(kept[0], self._asked[station])

    def _start(self, judge: Judge, now: Situation) -> None:
        reads = self._asked[judge.station]
        self._judging.add(judge.station)

        def work(report: Callable[[float, str], bool]) -> list[Finding]:
            from zesty_trace.journey.judges import raw_findings

            return raw_findings(judge, now)

        def done(found: list[Finding]) -> None:
            self._judging.discard(judge.station)
            self._judged[judge.station] = (reads, found)
            self._start_next()
            if self._is_judged(judge.station):
                self._show_findings()
            else:
                self.check_soon()

        def failed(error: ZestyError | None) -> None:
            self._judging.discard(judge.station)
            self._start_next()
            if error is not None:
                self.failed.emit(error)

        self.jobs.start(f"checking {judge.station}", work, done, failed, visible=False)

    def _show_findings(self) -> None:
        """Show what each judge has found so far; those of a station that is still looked at stay for so long."""
        from zesty_trace.core.findings import with_acceptance

        accepted = self.design.accepted
        found = {s: with_acceptance(self._judged[s][1], accepted) for s in self._asked if s in self._judged}
        found["bench"] = self._bench_findings()
        settled = all(self._is_judged(s) for s in self._asked)
        before = self.findings
        self.findings = {**before, **found}
        self.findings_of = self.wired if settled else None
        if settled or any(before[s] != self.findings[s] for s in before):
            self.findings_changed.emit()

    @property
    def settled(self) -> bool:
        """Whether the findings of all stations are those of the current design."""
        return self.findings_of is not None and self.findings_of is self.wired

    def is_current(self, station: str) -> bool:
        """Whether the findings of a station are those of the design as it is now."""
        from zesty_trace.core.circuit.wired import same
        from zesty_trace.journey.judges import JUDGES, Situation

        judge = next((j for j in JUDGES if j.station == station), None)
        if judge is None:
            return self.settled
        kept = self._judged.get(station)
        return kept is not None and same(kept[0], judge.reads(Situation(self.wired, self.path, self.today)))

    def open_count(self, station: str) -> int:
        """Return how many findings of a station ask for something."""
        return sum(f.severity <= Severity.FIX for f in self.findings.get(station, []))

    def zip_path(self) -> Path:
        """Return where the fabrication zip is, or would be."""
        from zesty_trace.core.fabrication.package import zip_name

        return self.path / "fabrication" / zip_name(self.design)

    def _bench_findings(self) -> list[Finding]:
        from zesty_trace.journey.measuring import bench_findings

        return bench_findings(self.boards(self.design.revision))

    def stations_done(self) -> int:
        """Return how far the board has really come."""
        from zesty_trace.journey.judges import stations_done

        return stations_done(self.design, self.findings, self.boards(self.design.revision), self.zip_path().exists())

    def _records_moved(self) -> None:
        if self.findings_of is not None:
            self.findings["bench"] = self._bench_findings()
            self.findings_changed.emit()

    def close(self) -> None:
        """Stop jobs, write what is waiting, let go of the folder."""
        self._timer.stop()
        self.jobs.close()
        self.autosaver.close()
        if self._records is not None:
            self.records.close()
        self.folder.close()
