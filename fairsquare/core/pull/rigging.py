"""What can be rigged: how many chains at once, how little sets one, how far past home, and none under or through the vehicle."""

import numpy as np
from pydantic import Field

from fairsquare.core.model import Model
from fairsquare.core.pull.setting import Setting
from fairsquare.core.sheet.model import Construction
from fairsquare.core.structure.skeleton import Skeleton

_INWARD_MM, _ACROSS_MM = 150.0, 60.0
_OUTLINE_STEPS = 24


class PullRules(Model):
    """What a shop asks of a pull. All of it common practice, no source, and changeable.

    `most_chains` at once: two can be watched by two people. `least_n` sets a chain. A point is drawn past where it belongs by no
    more than `overpull_share` of the way that it has to go; `overpull_least_mm` is always allowed.
    """

    most_chains: int = Field(default=2, ge=1, le=4)
    least_n: float = Field(default=5000.0, ge=0, le=1e6)
    overpull_share: float = Field(default=1.0, ge=0, le=20)
    overpull_least_mm: float = Field(default=10.0, ge=0, le=100)


def barred_lines(skeleton: Skeleton, setting: Setting, construction: Construction) -> frozenset[tuple[str, str]]:
    """Return the hooks and towers between which a chain would run under or through the vehicle.

    Seen from above, a chain may leave the vehicle along its rail or to its own side. Inside the outline of the frame it may not
    cross the centre plane (a trailer's frame is open: over that it may), nor run more than 150 mm back toward the middle.
    """
    places = np.array(list(skeleton.nodes.values()))
    low, high = places[:, 0].min(), places[:, 0].max()
    wide = float(np.abs(places[:, 1]).max())
    held = [skeleton.nodes[a.code][0] for a in setting.anchors if a.code in skeleton.nodes]
    middle = float(np.mean(held)) if held else float((low + high) / 2)
    lines = set()
    for hook in setting.hooks:
        if hook.code not in skeleton.nodes:
            continue
        x, y, _ = skeleton.nodes[hook.code]
        for tower in setting.towers:
            way = np.array(tower.at) - (x, y)
            steps = np.linspace(0.0, 1.0, _OUTLINE_STEPS + 1)[1:, None] * way + (x, y)
            inside = steps[(steps[:, 0] >= low) & (steps[:, 0] <= high) & (np.abs(steps[:, 1]) <= wide)]
            if not len(inside):
                continue
            crosses = (
                construction != "trailer"
                and abs(y) > _ACROSS_MM
                and bool((inside[:, 1] * np.sign(y) < -_ACROSS_MM).any())
            )
            back = abs(x - middle) - np.abs(inside[:, 0] - middle)
            if crosses or float(back.max()) > _INWARD_MM:
                lines.add((hook.id, tower.id))
    return frozenset(lines)
