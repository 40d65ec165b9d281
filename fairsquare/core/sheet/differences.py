"""What differs between two versions of a sheet, in words."""

from fairsquare.core.sheet.model import Point, Sheet


def differences(old: Sheet, new: Sheet) -> tuple[str, ...]:
    """Return a line of words for everything that a new version changes; nothing when they are alike."""
    words = [
        f"{label}: {before} before, {after} now"
        for label, before, after in (
            ("name", old.name, new.name),
            ("construction", old.construction, new.construction),
            ("tolerance", f"{old.tolerance_mm:g} mm", f"{new.tolerance_mm:g} mm"),
            ("build sigma", f"{old.build_sigma_mm:g} mm", f"{new.build_sigma_mm:g} mm"),
        )
        if before != after
    ]
    before, after = {p.code: p for p in old.points}, {p.code: p for p in new.points}
    words += [f"{code}: no longer on the sheet" for code in before if code not in after]
    words += [f"{code}: new on the sheet" for code in after if code not in before]
    for code, point in after.items():
        if code in before and before[code] != point:
            words.append(f"{code}: {_changed(before[code], point)}")
    if old.spans != new.spans:
        kept = set(old.spans) & set(new.spans)
        words.append(f"spans: {len(new.spans) - len(kept)} new or changed, {len(old.spans) - len(kept)} gone")
    return tuple(words)


def same_dimensions(old: Sheet, new: Sheet) -> bool:
    """Say whether two versions give every point the same place and limits, whatever names, members and references they give it."""
    return _dimensions(old) == _dimensions(new)


def _dimensions(sheet: Sheet) -> Sheet:
    unnamed = {"name": None, "member": None, "reference": False, "feature": None}
    points = tuple(point.model_copy(update=unnamed) for point in sheet.points)
    return sheet.model_copy(update={"name": "", "points": points})


def _changed(old: Point, new: Point) -> str:
    axes = zip(("length", "width", "height"), old.xyz, new.xyz, strict=True)
    changes = [f"{name} {before:g} mm → {after:g} mm" for name, before, after in axes if before != after]
    fields = ("tolerance_mm", "reference", "name", "member", "partner", "feature", "asymmetric", "sigma_mm")
    changes += [
        f"{field.removesuffix('_mm')} {_shown(getattr(old, field), _unit(field))} → {_shown(getattr(new, field), _unit(field))}"
        for field in fields
        if getattr(old, field) != getattr(new, field)
    ]
    return ", ".join(changes)


def _unit(field: str) -> str:
    return " mm" if field.endswith("_mm") else ""


def _shown(value: object, unit: str) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, tuple):
        return " / ".join(_shown(part, unit) for part in value)
    return "none" if value is None else f"{value:g}{unit}" if isinstance(value, float) else f"{value}{unit}"
