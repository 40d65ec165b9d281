"""A cut where a person puts it: which rules it breaks, and what it costs against the best place."""

from collections.abc import Mapping
from itertools import pairwise

from fairsquare.core.cut.place import (
    CutsPlaced,
    PlaceCuts,
    check_strip,
    cut_layers,
    place_cuts,
    removed_by,
    rules_on,
)
from fairsquare.core.cut.stretches import ROUNDING_MM
from fairsquare.core.errors import FairSquareError
from fairsquare.core.model import Model
from fairsquare.core.said import Said, say


class CutsJudged(Model):
    """Cuts as a person put them. `broken`: what each breaks; `more_mm`: what comes off beyond the best."""

    cuts: dict[str, float]
    removed_mm: float
    removed_metal_mm2: float
    broken: dict[str, tuple[Said, ...]]
    more_mm: float | None

    @property
    def keeps_all(self) -> bool:
        """Whether it breaks nothing."""
        return not any(self.broken.values())


class StripPlaced(Model):
    """Where the strip would best be cut, or why nowhere, and the cuts that count: a person's where there are any."""

    best: CutsPlaced | None
    fault: str | None
    conflict: tuple[dict[str, object], ...]
    judged: CutsJudged | None
    by_hand: bool


def placed_strip(request: PlaceCuts, chosen: Mapping[str, float]) -> StripPlaced:
    """Place the cuts of a strip, and judge those that a person chose; layers that nobody chose for are cut at the best place."""
    try:
        best, fault, conflict = place_cuts(request), None, ()
    except FairSquareError as refused:
        best, fault = None, refused.title
        conflict = tuple(refused.details.get("conflict", ()))
    own = {layer.id: chosen[layer.id] for layer in cut_layers(request) if layer.id in chosen}
    cuts = {**(best.cuts if best else {}), **own}
    whole = all(layer.id in cuts for layer in cut_layers(request))
    judged = judge_cuts(request, cuts, best) if whole and cuts and _sound(request) else None
    return StripPlaced(best=best, fault=fault, conflict=conflict, judged=judged, by_hand=bool(own))


def _sound(request: PlaceCuts) -> bool:
    try:
        check_strip(request)
    except FairSquareError:
        return False
    return True


def judge_cuts(request: PlaceCuts, cuts: Mapping[str, float], best: CutsPlaced | None) -> CutsJudged:
    """Say what cuts break and cost. `cuts` has a station for each layer that is cut."""
    layers = cut_layers(request)
    broken: dict[str, list[Said]] = {layer.id: [] for layer in layers}
    for layer in layers:
        at = cuts[layer.id]
        if not layer.start - ROUNDING_MM <= at <= layer.end + ROUNDING_MM:
            broken[layer.id].append(say("strip.off_layer", from_mm=layer.start, to_mm=layer.end))
        for rule in rules_on(request, layer):
            if not any(a + ROUNDING_MM < at < b - ROUNDING_MM for a, b in rule.forbids):
                continue
            if rule.key[0] == "feature":
                feature = request.features[int(rule.key[1])]
                clear = request.clearance_mm[feature.kind]
                away = max(feature.start - at, at - feature.end, 0.0)
                kind = feature.kind.replace("_", " ")
                near = {"away_mm": away, "feature": kind, "at_mm": feature.start, "clear_mm": clear}
                broken[layer.id].append(say("strip.too_near", **near))
            else:
                broken[layer.id].append(say(f"strip.{rule.reason}"))
    for a, b in pairwise(layers):
        apart = abs(cuts[a.id] - cuts[b.id])
        if apart < request.stagger_mm - ROUNDING_MM:
            broken[b.id].append(say("strip.stagger", apart_mm=apart, other=a.id, wanted_mm=request.stagger_mm))
    removed = {layer.id: removed_by(request.keep, layer, cuts[layer.id]) for layer in layers}
    total = sum(removed.values())
    return CutsJudged(
        cuts={layer.id: cuts[layer.id] for layer in layers},
        removed_mm=total,
        removed_metal_mm2=sum(removed[layer.id] * layer.thickness_mm for layer in layers),
        broken={name: tuple(words) for name, words in broken.items()},
        more_mm=total - best.removed_mm if best else None,
    )


def why_here(request: PlaceCuts, placed: CutsPlaced, layer_id: str) -> tuple[Said, ...]:
    """Return why a layer is cut where it is and not further out, nor closer in: what stands on either side of its cut."""
    layer = next(cut_layer for cut_layer in cut_layers(request) if cut_layer.id == layer_id)
    at, found = placed.cuts[layer_id], []
    outward = 1 if request.keep == "low" else -1
    for way in (outward, -outward):
        step = at + way * 0.5
        reasons = [
            rule
            for rule in rules_on(request, layer)
            if any(a + ROUNDING_MM < step < b - ROUNDING_MM for a, b in rule.forbids)
        ]
        if not layer.start <= step <= layer.end:
            why = say("strip.ends")
        elif reasons:
            why = _said(request, reasons[0].key, reasons[0].reason)
        elif way == outward:
            why = say("strip.stagger_beside", wanted_mm=request.stagger_mm)
        else:
            why = say("strip.more_off")
        found.append(say("strip.not_out" if way == outward else "strip.not_in", why=why))
    return tuple(found)


def _said(request: PlaceCuts, key: tuple[str, str | int], reason: str) -> Said:
    if key[0] == "feature":
        feature = request.features[int(key[1])]
        span = {"from_mm": feature.start, "to_mm": feature.end, "clear_mm": request.clearance_mm[feature.kind]}
        return say("strip.keeps_clear", feature=reason.replace("_", " "), **span)
    if key[0] == "damage":
        low, high = request.damage[str(key[1])]
        clear = request.clearance_mm.get("damage", 0.0)
        low_kept = request.keep == "low"
        kind = "strip.damage_begins" if low_kept else "strip.damage_ends"
        return say(kind, at_mm=low if low_kept else high, clear_mm=clear)
    return say(f"strip.{key[0]}_ends")
