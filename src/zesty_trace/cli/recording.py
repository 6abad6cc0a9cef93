"""Commands about the records: what happened to each board, and whether that is as it was written."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from zesty_trace.cli.common import FINE, FOUND, Answer, load
from zesty_trace.errors import InputError

if TYPE_CHECKING:
    from zesty_trace.store.board import BoardRecord


def records_command(a: argparse.Namespace) -> Answer:
    """Verify the chain of events, bring a daily copy back, take the records as they are, or set up a key."""
    from zesty_trace.store.records import backup_names
    from zesty_trace.store.restoring import bring_back, take_as_they_are

    if a.action == "key":
        return _records_key(a)
    if not a.project:
        raise InputError("The project is not named", "records", f"Write zt records {a.action} PROJECT")
    folder = load(a.project)[1]
    if a.action == "verify":
        return _verify_records(folder)
    if a.action == "take":
        from zesty_trace.store.own import person

        count = take_as_they_are(folder, a.why or "", person().name)
        return FINE, {"events": count, "why": a.why}, f"The records count as they are: {count} events"
    names = backup_names(folder)
    chosen = a.backup or (names[0] if names else "")
    if chosen not in names:
        raise InputError(f"There is no copy “{chosen}”", "backups", f"Known: {', '.join(names) or 'none'}")
    kept = bring_back(folder, chosen)
    said = f"{chosen} is back; what was there is kept as {kept}" if kept else f"{chosen} is back"
    return FINE, {"brought_back": chosen, "kept": str(kept or "")}, said


def _verify_records(folder: Path) -> Answer:
    """Return whether each event is as it was written, who signed them, and what is odd about the clock."""
    from zesty_trace.store.records import Records, RecordsDamaged, backup_names
    from zesty_trace.store.restoring import has_records
    from zesty_trace.store.signing import load_key

    if not has_records(folder):
        return FINE, {"events": 0, "wrong": [], "remarks": []}, "There are no records yet."
    key = load_key()
    remarks: list[str] = []
    taken: list[str] = []
    try:
        with closing(Records(folder)) as records:
            found = records.check()
            wrong, count, remarks = list(found.wrong), found.count, list(found.remarks)
            taken = [
                f"Taken as they are on {t.at[:10]} by {t.who or 'somebody'}: {t.now} events where {t.known} were "
                f"known ({t.why})"
                for t in records.taken
            ]
            signed = found.sealed
    except RecordsDamaged as error:
        wrong, count, signed = [str(error)], 0, 0
    copies = backup_names(folder)
    data = {"events": count, "wrong": wrong, "remarks": [*remarks, *taken], "backups": copies, "signed": signed}
    said = wrong or [f"{count} events, each as it was written and none missing that this computer has seen."]
    if wrong and copies:
        said.append(f"Copies lie in backups: {', '.join(copies[:3])}. Bring one back with zt records restore.")
    if key is None:
        said.append("They are not signed: zt records key sets a key up, so that a chain written anew is found out too.")
    elif not wrong:
        said.append(f"Signed with your key {key.short} up to event {signed}.")
    return (FOUND if wrong else FINE), data, "\n".join([*said, *(f"Note: {r}" for r in [*remarks, *taken])])


def _records_key(a: argparse.Namespace) -> Answer:
    """Set up the key that signs the user's events, or show which it is."""
    from zesty_trace.store.own import person
    from zesty_trace.store.signing import key_path, load_key, make_key

    key, fresh = load_key(), False
    if key is None:
        key, fresh = make_key(person().name), True
    data = {"public": key.public, "who": key.who, "made": key.made, "file": str(key_path()), "fresh": fresh}
    said = "It was made now. " if fresh else ""
    return (
        FINE,
        data,
        (
            f"Your key is {key.public}, of {key.who}, since {key.made[:10]}. {said}"
            f"It signs what you record. Keep a copy of {key_path()}, and show it to nobody."
        ),
    )


def record_command(a: argparse.Namespace) -> Answer:
    """Say what happened to each board, and where it stands."""
    from zesty_trace.journey.flashing import wanted_of
    from zesty_trace.store.records import Records
    from zesty_trace.store.restoring import has_records

    wired, folder = load(a.project)
    design = wired.design
    boards: list[BoardRecord] = []
    wrong: tuple[str, ...] = ()
    if has_records(folder):
        with closing(Records(folder)) as records:
            boards, wrong = records.boards(), records.wrong
    wanted = wanted_of(design, folder)
    data: list[dict[str, Any]] = []
    lines = [f"THE RECORDS DO NOT HOLD TOGETHER: {w}. No board counts as passed." for w in wrong]
    for b in boards:
        current = b.revision == design.revision and b.variant == design.build.variant
        standing = b.standing(wanted if current else None)
        data.append(
            {
                "serial": b.serial,
                "verdict": standing.verdict,
                "why": standing.why,
                "simulated": standing.simulated,
                "revision": b.revision,
                "variant": b.variant,
                "events": [
                    {
                        "at": e.at,
                        "kind": e.kind,
                        "verdict": e.verdict,
                        "summary": e.summary,
                        "source": e.told.source,
                        "by": e.told.who,
                        "data": {k: v for k, v in msgspec.to_builtins(e.told).items() if k != "readings"},
                    }
                    for e in b.events
                ],
            }
        )
        lines.append(f"{b.serial}  {standing.words:16} " + "; ".join(f"{e.kind}: {e.words}" for e in b.events))
        if standing.verdict == "open":
            lines.append(f"{'':8}open: {standing.why}")
    return FINE, data, "\n".join(lines) or "No boards yet."


def add_commands(add: Callable[..., None], project: tuple[str, dict[str, Any]]) -> None:
    """Add the commands about records."""
    add(
        "records",
        records_command,
        "verify the records, bring a daily copy back, take them as they are, or set up the key that signs them",
        ("action", {"choices": ["verify", "restore", "take", "key"]}),
        ("project", {"nargs": "?", "help": "the project folder (not for key)"}),
        ("--backup", {"help": "restore: which copy (default: the newest)"}),
        ("--why", {"help": "take: why other records are there than this computer has seen"}),
    )
    add("record", record_command, "what happened to each board", project)
