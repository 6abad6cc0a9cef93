"""The part kinds of a project: the shipped ones, the user's own, and those that travel with it."""

from __future__ import annotations

from pathlib import Path

from zesty_trace.core.catalogue.kind import PackageSpec
from zesty_trace.core.catalogue.kinds import PACKAGES, Catalogue, Kind, kinds_of, packages_of, shipped, with_user_parts
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.tables.importing import value_problem
from zesty_trace.errors import InputError, StoreError
from zesty_trace.files import names_inside, read_inside, write_given, write_inside
from zesty_trace.names import check_name
from zesty_trace.store.own import own_packages_path, own_parts_path


def project_catalogue(folder: Path | None) -> Catalogue:
    """Return the shipped catalogue with the user's own part kinds, and over them those that travel in the project."""
    own = own_parts_path()
    homes = [own.parent, *([folder] if folder else [])]
    places = [(home, name) for home in homes for name in (own.name, PACKAGES)]
    return with_user_parts(shipped(), *(p for p in places if p[0].is_dir()))


def keep_kind(kind: Kind, folder: Path) -> Path:
    """Keep a kind of the user's in their own folder and in the project. StoreError if it cannot be written."""
    from zesty_trace.core.catalogue.make_part import write_kind

    check_name(kind.id, "kind", "part kind")
    return _keep(kind.id, write_kind(kind).encode(), own_parts_path(), folder, "parts")


def keep_package(spec: PackageSpec, folder: Path | None) -> Path:
    """Keep a package of the user's in their own folder, and in the project. StoreError if it cannot be written."""
    from zesty_trace.core.catalogue.lands.own import write_package

    check_name(spec.id, "package", "package")
    if spec.id in shipped().packages:
        raise InputError(f"{spec.id} is a package of the catalogue already", spec.id, "Give yours another name")
    return _keep(spec.id, write_package(spec).encode(), own_packages_path(), folder, PACKAGES)


def _keep(name: str, data: bytes, own: Path, folder: Path | None, below: str) -> Path:
    """Write a file of the user's into their own folder, and into a project; return the path there, or in their own."""
    try:
        own.mkdir(parents=True, exist_ok=True)
        write_given(own / f"{name}.toml", data)
        if folder is None:
            return own / f"{name}.toml"
        folder.mkdir(parents=True, exist_ok=True)
        write_inside(folder, f"{below}/{name}.toml", data)
    except OSError as error:
        if isinstance(error, StoreError):
            raise
        where = str(folder or own)
        raise StoreError(f"Could not keep {name}: {error.strerror}", where, "Check the folder's rights") from error
    return folder / below / f"{name}.toml"


def carry_packages(design: Design, folder: Path, catalogue: Catalogue) -> list[str]:
    """Write the user's own packages that a design uses into its project; return their names. StoreError."""
    from zesty_trace.core.catalogue.lands.own import write_package

    used = {p.package for p in design.parts.values()}
    used |= {
        name for p in design.parts.values() if p.kind in catalogue.kinds for name in catalogue.kinds[p.kind].packages
    }
    wanted = used & catalogue.own
    if not wanted:
        return []
    folder.mkdir(parents=True, exist_ok=True)
    there: set[str] = set()
    for name in names_inside(folder, PACKAGES, ".toml"):
        there |= set(packages_of(read_inside(folder, f"{PACKAGES}/{name}", "packages"), name))
    carried = sorted(wanted - there)
    for name in carried:
        write_inside(folder, f"{PACKAGES}/{name}.toml", write_package(catalogue.packages[name]).encode())
    return carried


def carry_kinds(design: Design, folder: Path, catalogue: Catalogue) -> list[str]:
    """Write the user's own kinds that a design uses into its project, so that they travel along; return their ids.

    StoreError if one cannot be written.
    """
    from zesty_trace.core.catalogue.make_part import write_kind

    carry_packages(design, folder, catalogue)
    base = shipped()
    wanted = {p.kind for p in design.parts.values() if p.kind not in base.kinds and p.kind in catalogue.kinds}
    if not wanted:
        return []
    folder.mkdir(parents=True, exist_ok=True)
    there: set[str] = set()
    for name in names_inside(folder, "parts", ".toml"):
        there |= set(kinds_of(read_inside(folder, f"parts/{name}", "parts"), name, catalogue))
    carried = sorted(wanted - there)
    for kind_id in carried:
        try:
            write_inside(folder, f"parts/{kind_id}.toml", write_kind(catalogue.kinds[kind_id]).encode())
        except OSError as error:
            if isinstance(error, StoreError):
                raise
            raise StoreError(
                f"Could not keep {kind_id}: {error.strerror}", str(folder / "parts"), "Check the folder"
            ) from error
    return carried


def check_known(wired: Wired) -> None:
    """Refuse a design whose kinds, packages, pins or values the catalogue does not have.

    InputError names part and kind.
    """
    design = wired.design
    for part in design.parts.values():
        try:
            kind = wired.catalogue.kind(part.kind)
            wired.catalogue.package(part.package or kind.packages[0])
            for value in (part.value, *part.values.values()):
                if wrong := value_problem(kind, value):
                    raise InputError(f"{part.ref}: {wrong[0]}", "design.json", wrong[1])
        except InputError as error:
            if error.where == "design.json":
                raise
            hint = f"{error.hint} If it is one of your own, put its file back into the project's parts folder"
            raise InputError(f"{part.ref}: {error.message}", "design.json", hint) from error
    known = {ref: {s.number for s in wired.catalogue.kind(p.kind).pins} for ref, p in design.parts.items()}
    for net, pins in (*design.nets.items(), ("not connected", design.not_connected)):
        for pin in pins:
            if pin.number not in known[pin.ref]:
                kind_id = design.parts[pin.ref].kind
                raise InputError(
                    f"{net}: {pin.ref} ({kind_id}) has no pin {pin.number}", "design.json", "Connect another pin"
                )
