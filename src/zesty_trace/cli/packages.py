"""Commands about packages: list them, show a land pattern, make one's own, and whether the part in the hand fits."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from zesty_trace.cli.common import FINE, FOUND, Answer
from zesty_trace.core.catalogue.kind import PackageSpec
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.catalogue.land_patterns import LandPattern, land_pattern
from zesty_trace.errors import InputError


def package_command(a: argparse.Namespace) -> Answer:
    """Do one of the actions."""
    from zesty_trace.journey.kinds import project_catalogue

    catalogue = project_catalogue(Path(a.project) if a.project else None)
    if a.action == "list":
        return _list(catalogue, a.name or "")
    if not a.name:
        raise InputError("Say which package", "package", "For example: zt package show R0603")
    if a.action in ("show", "fit"):
        spec = catalogue.package(a.name)
        if a.density:
            from zesty_trace.core.catalogue.lands.own import spec_from_words

            spec = spec_from_words(spec.id, [f"density={a.density}"], spec)
        return _shown(spec) if a.action == "show" else _fit(spec, a.words)
    return _make(a, catalogue)


def _list(catalogue: Catalogue, words: str) -> Answer:
    found = [s for n, s in sorted(catalogue.packages.items()) if words.lower() in n.lower()]
    data = [
        {"id": s.id, "family": s.family, "pads": len(land_pattern(s).pads), "own": s.id in catalogue.own} for s in found
    ]
    lines = [f"{d['id']:20} {d['pads']:4} pads  {d['family']}{'  your own' if d['own'] else ''}" for d in data]
    return FINE, data, "\n".join(lines) or "There is none."


def _shown(spec: PackageSpec) -> Answer:
    pattern = land_pattern(spec)
    data = as_dict(spec, pattern)
    lines = [f"{spec.id}: {spec.family}, {spec.height:g} mm tall, courtyard {data['courtyard_mm']}"]
    lines += [
        f"  {p['number'] or '-':>4}  {p['x_mm']:8.3f} {p['y_mm']:8.3f}   {p['width_mm']:.3f} x {p['height_mm']:.3f} mm"
        f" {p['shape']}" + (f", hole {p['drill_mm']:g} mm" if p["drill_mm"] else "")
        for p in data["pads"]
    ]
    if pattern.windows:
        lines.append(f"  paste through {len(pattern.windows)} windows over the pad below the body")
    return FINE, data, "\n".join(lines)


def as_dict(spec: PackageSpec, pattern: LandPattern) -> dict[str, Any]:
    """Return a land pattern as numbers in mm."""
    pads = [
        {
            "number": p.number,
            "x_mm": p.x_nm / 1e6,
            "y_mm": p.y_nm / 1e6,
            "width_mm": p.width_nm / 1e6,
            "height_mm": p.height_nm / 1e6,
            "shape": p.shape,
            "drill_mm": p.drill_nm / 1e6,
            "slot_mm": p.slot_nm / 1e6,
            "plated": p.plated,
        }
        for p in pattern.pads
    ]
    windows = [
        {
            "number": w.number,
            "x_mm": w.x_nm / 1e6,
            "y_mm": w.y_nm / 1e6,
            "width_mm": w.width_nm / 1e6,
            "height_mm": w.height_nm / 1e6,
        }
        for w in pattern.windows
    ]
    return {
        "id": spec.id,
        "family": spec.family,
        "density": spec.density,
        "height_mm": spec.height,
        "body_mm": [round(v / 1e6, 4) for v in pattern.body],
        "courtyard_mm": [round(v / 1e6, 4) for v in pattern.courtyard],
        "pick_mm": [round(v / 1e6, 4) for v in pattern.pick],
        "pads": pads,
        "windows": windows,
    }


def _fit(spec: PackageSpec, words: Sequence[str]) -> Answer:
    from zesty_trace.core.catalogue.lands.fit import Measured, check_fit
    from zesty_trace.names import suggest

    said: dict[str, float] = {}
    for word in words:
        field, _, number = word.partition("=")
        if field not in Measured.__struct_fields__:
            raise InputError(f"“{word}” is no measure", "fit", suggest(field, Measured.__struct_fields__))
        try:
            said[field] = float(number)
        except ValueError as error:
            raise InputError(f"“{number}” is no number of mm", field, f"Write {field}=2.54") from error
    fit = check_fit(spec, Measured(**said))
    bent = "It fits once its legs are bent." if fit.bend_mm else "It fits."
    verdict = {True: bent, False: "It does not fit.", None: "Too little was measured to say."}[fit.fits]
    data = {"fits": fit.fits, **{k: v for k, v in fit._asdict().items() if k not in ("fits",)}}
    return (FOUND if fit.fits is False else FINE), data, "\n".join([verdict, *fit.sentences])


def _make(a: argparse.Namespace, catalogue: Catalogue) -> Answer:
    from zesty_trace.core.catalogue.lands.own import spec_from_words
    from zesty_trace.journey.foreign import package_of
    from zesty_trace.journey.kinds import keep_package

    if a.action == "make":
        start = catalogue.package(a.like) if a.like else None
        spec = spec_from_words(a.name, a.words, start)
    else:
        if len(a.words) != 1:
            raise InputError("Say which file", a.action, f"For example: zt package {a.action} {a.name} FILE")
        spec = package_of(Path(a.words[0]), a.name, a.height, a.action == "dxf")
    path = keep_package(spec, Path(a.project) if a.project else None)
    _, data, text = _shown(spec)
    return FINE, {**data, "file": str(path)}, f"Kept as {path}\n{text}"
