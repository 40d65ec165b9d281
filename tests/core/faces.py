"""Invented faces of vehicles: panels in a row that share gaps, hung wrong or pushed by the structure."""

from typing import Any

import numpy as np

from fairsquare.core.fit.panels import HangPanels, PanelsHung, hang_panels

AXES = ("length", "width", "height")


def face(seed: int, *, panels: int = 4, wrong: int = 1, reach: float = 4.0, tolerance: float = 1.0) -> dict[str, Any]:
    """Panels side by side from the rear, five gaps a panel; `wrong` of them hang away from where every gap is fair."""
    random = np.random.default_rng(seed)
    made, gaps = [], []
    moved = {f"p{k}": np.zeros(6) for k in range(panels)}
    for name in random.choice(list(moved), wrong, replace=False):
        moved[name] = random.uniform(-0.6, 0.6, 6) * reach
    for k in range(panels):
        hinges = [
            {
                "id": f"h{j}",
                "at": (np.array([800.0 * k + 350, 700, z]) + random.uniform(-30, 30, 3)).round(1).tolist(),
                "range": {
                    a: np.round([-random.uniform(0.5, 1) * reach, random.uniform(0.5, 1) * reach], 1).tolist()
                    for a in AXES
                },
            }
            for j, z in enumerate((400.0, 800.0))
        ]
        made.append({"id": f"p{k}", "hinges": hinges})
        sides: list[tuple[str | None, float, float, list[float]]] = [
            (f"p{k + 1}" if k < panels - 1 else None, 390.0, 450.0, [1, 0, 0]),
            (f"p{k + 1}" if k < panels - 1 else None, 390.0, 900.0, [1, 0, 0]),
            (f"p{k + 1}" if k < panels - 1 else None, 390.0, 650.0, [0, 1, 0]),
            (None, -200.0, 300.0, [0, 0, -1]),
            (None, 200.0, 1000.0, [0, 0, 1]),
        ]
        for n, (other, x, z, normal) in enumerate(sides):
            gaps.append(
                {
                    "id": f"g{k}{n}",
                    "a": f"p{k}",
                    "b": other,
                    "at": [800.0 * k + x, 720.0, z],
                    "normal": normal,
                    "mm": 0.0 if normal[1] else 4.0,
                    "target_mm": 0.0 if normal[1] else 4.0,
                    "tolerance_mm": tolerance,
                }
            )
    request = {"panels": made, "gaps": gaps}
    for gap in gaps:
        gap["mm"] += float((row_of(request, gap) @ np.concatenate(list(moved.values()))).round(2))
        gap["mm"] += float(random.uniform(-0.3, 0.3) * tolerance)
    return request


def at_point(panel: dict[str, Any], place: Any) -> np.ndarray:
    """How a place moves with x = (t, 1000 ω) of its panel (3, 6), by the formula of the calculation, written anew."""
    arm = np.array(place) - np.mean([hinge["at"] for hinge in panel["hinges"]], axis=0)
    return np.column_stack([*np.eye(3), *(np.cross(axis / 1000, arm) for axis in np.eye(3))])


def row_of(request: dict[str, Any], gap: dict[str, Any]) -> np.ndarray:
    """How much a gap closes with x of all panels (6 p)."""
    normal = np.array(gap["normal"]) / np.linalg.norm(gap["normal"])
    return np.concatenate(
        [
            ((panel["id"] == gap["a"]) * 1.0 - (panel["id"] == gap["b"]) * 1.0) * (normal @ at_point(panel, gap["at"]))
            for panel in request["panels"]
        ]
    )


def hung(request: dict[str, Any]) -> PanelsHung:
    return hang_panels(HangPanels.model_validate(request, strict=False))
