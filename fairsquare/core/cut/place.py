"""Where to cut a member, layer by layer: each stretch where a cut may stand, the best place, what gives where there is none."""

import math
from collections.abc import Iterable, Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from fairsquare.core.cut.chain import Chain, ChainLayer, best_cuts, smallest_conflict
from fairsquare.core.cut.stretches import Interval, Rule, Slots, outside, slots_of
from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Millimetres, Model, NotNegative, Spoken

Keep = Literal["low", "high"]
DAMAGE = "damage"
_SAID = 4


class Along(Spoken):
    """Something that reaches from one station to another along the member, mm."""

    start: Millimetres = Field(alias="from")
    end: Millimetres = Field(alias="to")

    @property
    def stretch(self) -> Interval:
        """From where to where."""
        return self.start, self.end


class CutLayer(Along):
    """A layer of the member: where it begins and ends, and of what it is."""

    id: Code
    thickness_mm: Annotated[float, Field(gt=0, le=1000)]
    material: Code


class CutFeature(Along):
    """Something a cut keeps clear of: a hole, a bracket, a hinge; `layers` null: it holds for all of them."""

    kind: Code
    layers: Many[Code] | None = None


class LayerStretch(Along):
    """A stretch of one layer in which a cut may stand: the maker's window, or what saw and torch reach."""

    layer: Code


class PlaceCuts(Model):
    """A member unrolled along its length. `damage` names the layers that are cut; `keep` the end that stays on the vehicle."""

    layers: Many[CutLayer]
    features: Many[CutFeature] = ()
    windows: Many[LayerStretch] = ()
    access: Many[LayerStretch] = ()
    damage: dict[Code, Annotated[tuple[Millimetres, Millimetres], Field(strict=False)]]
    keep: Keep
    clearance_mm: dict[Code, NotNegative] = Field(default_factory=dict)
    stagger_mm: NotNegative = 50.0


class Rejected(Along):
    """A stretch in which no cut may stand, and a reason that holds in all of it."""

    reason: str


class CutsPlaced(Model):
    """Where each layer is cut, what comes off, where it might be cut as well, and why not elsewhere."""

    cuts: dict[Code, float]
    removed_mm: float
    removed_metal_mm2: float
    feasible: dict[Code, tuple[tuple[float, float], ...]]
    rejected: dict[Code, tuple[Rejected, ...]]


def place_cuts(request: PlaceCuts) -> CutsPlaced:
    """Place the cuts of a member so that the least comes off, clear of everything that must be kept clear of.

    Exact: the best cuts stand at limits of their stretches, or whole staggers away from those of others, so only such stations are
    tried. Raises `Refused` with `details["conflict"]`, a smallest set of rules that leave no place even without all others.
    """
    check_strip(request)
    rules = {layer.id: rules_on(request, layer) for layer in cut_layers(request)}
    own = {layer.id: slots_of(*layer.stretch, rules[layer.id]) for layer in cut_layers(request)}
    feasible = {name: _feasible(slots, rules[name]) for name, slots in own.items()}
    chain = chain_of(request, rules)
    stations = best_cuts(chain, [feasible[layer.id] for layer in cut_layers(request)])
    if stations is None:
        conflict = _named(request, smallest_conflict(chain))
        raise Refused(
            f"There is no place for the cut: {conflict_words(request, conflict)}.",
            field="damage",
            details={"conflict": conflict},
        )
    cuts = dict(zip((layer.id for layer in cut_layers(request)), stations, strict=True))
    removed = {layer.id: removed_by(request.keep, layer, cuts[layer.id]) for layer in cut_layers(request)}
    return CutsPlaced(
        cuts=cuts,
        removed_mm=math.fsum(removed.values()),
        removed_metal_mm2=math.fsum(removed[layer.id] * layer.thickness_mm for layer in cut_layers(request)),
        feasible=feasible,
        rejected={name: tuple(_rejected(slots, rules[name])) for name, slots in own.items()},
    )


def check_strip(request: PlaceCuts) -> None:
    """Raise `Refused`, naming the field, for stretches that end before they begin, and for names that are not there."""
    names = [layer.id for layer in request.layers]
    for index, layer in enumerate(request.layers):
        if layer.id in names[:index]:
            raise Refused(f"Layer {layer.id} is listed twice.", field=f"layers.{index}.id", value=layer.id)
    listed: tuple[tuple[str, Sequence[Along]], ...] = (
        ("layers", request.layers),
        ("features", request.features),
        ("windows", request.windows),
        ("access", request.access),
    )
    for field, things in listed:
        for index, thing in enumerate(things):
            _check_ascends(thing.stretch, f"{field}.{index}.from")
    for index, feature in enumerate(request.features):
        for name in feature.layers or ():
            _check_known(name, names, f"features.{index}.layers")
        if feature.kind not in request.clearance_mm:
            raise Refused(
                f"How far does a cut keep clear of a {_plain(feature.kind)}? Give clearance_mm.{feature.kind}, 0 or more.",
                field=f"features.{index}.kind",
                value=feature.kind,
            )
    for field, stretches in (("windows", request.windows), ("access", request.access)):
        for index, stretched in enumerate(stretches):
            _check_known(stretched.layer, names, f"{field}.{index}.layer")
    _check_damage(request, names)


def _check_damage(request: PlaceCuts, names: Sequence[str]) -> None:
    if not request.damage:
        raise Refused("No layer is damaged: name those that are cut, each with where its damage is.", field="damage")
    by_name = {layer.id: layer for layer in request.layers}
    for name, stretch in request.damage.items():
        field = f"damage.{name}"
        _check_known(name, names, field)
        _check_ascends(stretch, field)
        layer = by_name[name]
        if stretch[0] < layer.start or stretch[1] > layer.end:
            raise Refused(
                f"The damage of {name} should lie on it, between {layer.start:g} mm and {layer.end:g} mm.",
                field=field,
                value=list(stretch),
            )


def _check_ascends(stretch: Interval, field: str) -> None:
    if stretch[0] > stretch[1]:
        raise Refused(
            f"It begins at {stretch[0]:g} mm and ends before that, at {stretch[1]:g} mm: exchange them.",
            field=field,
            value=stretch[0],
        )


def _check_known(name: str, names: Sequence[str], field: str) -> None:
    if name not in names:
        raise Refused(f"There is no layer {name}: the layers are {', '.join(names)}.", field=field, value=name)


def cut_layers(request: PlaceCuts) -> tuple[CutLayer, ...]:
    """Return the layers that are cut, in the order in which they are listed."""
    return tuple(layer for layer in request.layers if layer.id in request.damage)


def removed_by(keep: Keep, layer: CutLayer, station: float) -> float:
    """Return how much of a layer comes off when it is cut at a station, mm."""
    return layer.end - station if keep == "low" else station - layer.start


def rules_on(request: PlaceCuts, layer: CutLayer) -> tuple[Rule, ...]:
    """Return every rule on a layer that is cut but the stagger, damage first, then features, windows and reach."""
    widened = request.clearance_mm.get(DAMAGE, 0.0)
    low, high = request.damage[layer.id]
    damage = (low - widened, math.inf) if request.keep == "low" else (-math.inf, high + widened)
    rules = [Rule((DAMAGE, layer.id), DAMAGE, (damage,))]
    for index, feature in enumerate(request.features):
        if feature.layers is None or layer.id in feature.layers:
            clear = request.clearance_mm[feature.kind]
            stretch = (feature.start - clear, feature.end + clear)
            rules.append(Rule(("feature", index), feature.kind, (stretch,) if stretch[0] < stretch[1] else ()))
    for name, stretches in (("window", request.windows), ("access", request.access)):
        inside = [stretch.stretch for stretch in stretches if stretch.layer == layer.id]
        if inside:
            rules.append(Rule((name, layer.id), name, outside(inside)))
    return tuple(rules)


def chain_of(request: PlaceCuts, rules: Mapping[str, Sequence[Rule]]) -> Chain:
    """Return the layers that are cut with their rules, as the search takes them."""
    sign = -1.0 if request.keep == "low" else 1.0
    layers = tuple(
        ChainLayer(layer.start, layer.end, layer.thickness_mm, tuple(rules[layer.id])) for layer in cut_layers(request)
    )
    return Chain(layers, request.stagger_mm, sign)


def _feasible(slots: Slots, rules: Sequence[Rule]) -> tuple[Interval, ...]:
    broken = np.zeros(slots.many, dtype=bool)
    for rule in rules:
        broken |= slots.broken_by(rule)
    return tuple(slots.stretch(first, last) for first, last in slots.runs(~broken))


def _rejected(slots: Slots, rules: Sequence[Rule]) -> Iterable[Rejected]:
    """Return the rest of a layer, each stretch with the first of the reasons that hold there, neighbours of one reason joined."""
    reason = np.full(slots.many, -1)
    names: list[str] = []
    for rule in rules:
        if rule.reason not in names:
            names.append(rule.reason)
        reason[slots.broken_by(rule) & (reason < 0)] = names.index(rule.reason)
    rejected = []
    for index, name in enumerate(names):
        for first, last in slots.runs(reason == index):
            start, end = slots.stretch(first, last)
            rejected.append(Rejected(start=start, end=end, reason=name))
    return sorted(rejected, key=lambda piece: piece.stretch)


def _named(request: PlaceCuts, conflict: Iterable[tuple[str, str | int]]) -> list[dict[str, Any]]:
    names = [layer.id for layer in cut_layers(request)]
    named: list[dict[str, Any]] = []
    for rule, about in conflict:
        if rule == "stagger":
            named.append({"rule": rule, "layers": names[int(about) : int(about) + 2]})
        else:
            named.append({"rule": rule, "feature" if rule == "feature" else "layer": about})
    return named


def conflict_words(request: PlaceCuts, conflict: Sequence[Mapping[str, Any]]) -> str:
    """Return in words which rules together leave no place."""
    against = []
    for rule in conflict:
        if rule["rule"] == "feature":
            feature = request.features[rule["feature"]]
            clear = request.clearance_mm[feature.kind]
            against.append(
                f"the {_plain(feature.kind)} at {feature.start:g} mm to {feature.end:g} mm, kept clear of by {clear:g} mm"
            )
        elif rule["rule"] == "stagger":
            against.append(f"{' and '.join(rule['layers'])} cut {request.stagger_mm:g} mm apart")
        else:
            words = {"damage": "the damage of", "window": "the maker's window of", "access": "what the saw reaches of"}
            against.append(f"{words[rule['rule']]} {rule['layer']}")
    if len(against) > _SAID:
        against = [*against[:_SAID], f"and {len(against) - _SAID} more"]
    return " against ".join(against) if len(against) == 2 else ", ".join(against)


def _plain(kind: str) -> str:
    return kind.replace("_", " ")
