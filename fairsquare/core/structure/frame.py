"""The frame in numbers: local axes, how nodes strain members, and what cannot move without straining anything.

Model: 3-D frame of prismatic Euler-Bernoulli members, 12 degrees of freedom each, St Venant torsion, small displacements (any
text on matrix structural analysis, as Przemieniecki 1968, chapter 5; from memory). Each member is described by six natural
deformations: stretch, twist, and the turns of its two ends about y and about z, against its chord.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fairsquare.core.errors import Refused
from fairsquare.core.structure.skeleton import Skeleton

Floats = NDArray[np.float64]

NEARLY_VERTICAL = 0.02
LEAST_HARDENING = 1e-7
_FREE_MOTION = 1e-9
_AXES = ("forward", "to the left", "up", "round the length axis", "round the cross axis", "round the upright axis")


@dataclass(frozen=True)
class Frame:
    """A checked skeleton as arrays. n nodes, m members, f free degrees of freedom.

    `nodes`, `member_ids` the names in order; `places` (n, 3); `ends` (m, 2) the nodes of each member; `lengths` (m); `axes`
    (m, 3, 3), rows the local x, y, z; `strain` (m, 6, 12) natural deformations from the twelve global end displacements;
    `slots` (m, 12) the free degree of freedom of each, f where held; `free` (6 n) whether each is free; `stiffness` (4, m, 2)
    of each component (pull, twist, y, z): of an end against itself and against the other end; `back` (4, m) what an end hardens
    by; `yields` (4, m) N or N·mm; `no_hardening` (m); `elastic` (f, f) the elastic stiffness, `flexibility` (f, f) its inverse.
    """

    nodes: tuple[str, ...]
    member_ids: tuple[str, ...]
    places: Floats
    ends: NDArray[np.intp]
    lengths: Floats
    axes: Floats
    strain: Floats
    slots: NDArray[np.intp]
    free: NDArray[np.bool_]
    stiffness: Floats
    back: Floats
    yields: Floats
    no_hardening: NDArray[np.bool_]
    elastic: Floats
    flexibility: Floats

    @property
    def freedoms(self) -> int:
        """The number of free degrees of freedom."""
        return int(self.free.sum())

    def deformations(self, moved: Floats) -> Floats:
        """Return the natural deformations (c, m, 6) under displacements of the free degrees of freedom (c, f)."""
        padded = np.concatenate([moved, np.zeros((len(moved), 1))], axis=1)
        taken: Floats = padded[:, self.slots]
        return (self.strain[None] @ taken[..., None])[..., 0]

    def gathered(self, natural: Floats) -> Floats:
        """Return the loads at free degrees of freedom (c, f) that hold natural forces (c, m, 6) in balance."""
        ends = (np.swapaxes(self.strain, 1, 2)[None] @ natural[..., None])[..., 0]
        count, width = len(natural), self.freedoms + 1
        where = (np.arange(count) * width)[:, None, None] + self.slots[None]
        total: Floats = np.bincount(where.ravel(), ends.ravel(), minlength=count * width).astype(float)
        return total.reshape(count, width)[:, :-1]

    def end_forces(self, natural: Floats) -> Floats:
        """Return what the nodes put on the ends of each member, (m, 12) in its local axes, from its natural forces (m, 6)."""
        pull, twist, yi, yj, zi, zj = natural.T
        across_y, across_z = (zi + zj) / self.lengths, (yi + yj) / self.lengths
        return np.stack([-pull, across_y, -across_z, -twist, yi, zi, pull, -across_y, across_z, twist, yj, zj], axis=1)

    def node_loads(self, natural: Floats) -> Floats:
        """Return what the members ask of each node, (n, 6) in global axes, from natural forces (m, 6)."""
        ends = np.einsum("mkd,mk->md", self.strain, natural).reshape(-1, 2, 6)
        total = np.zeros((len(self.nodes), 6))
        np.add.at(total, self.ends, ends)
        return total


def local_axes(along: Floats, roll_deg: Floats) -> Floats:
    """Return local axes (m, 3, 3), rows x, y, z, of members along (m, 3): z is global z less its part along x, then rolled.

    Where a member is nearly vertical, √(Δx² + Δy²) < 0.02 L, global y takes the place of global z.
    """
    x = along / np.linalg.norm(along, axis=1, keepdims=True)
    vertical = np.hypot(x[:, 0], x[:, 1]) < NEARLY_VERTICAL
    up = np.where(vertical[:, None], (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))
    z = up - np.sum(up * x, axis=1, keepdims=True) * x
    z /= np.linalg.norm(z, axis=1, keepdims=True)
    y = np.cross(z, x)
    turn = np.radians(roll_deg)[:, None]
    return np.stack([x, np.cos(turn) * y + np.sin(turn) * z, np.cos(turn) * z - np.sin(turn) * y], axis=1)


def frame_of(skeleton: Skeleton, at: str = "") -> Frame:
    """Return the frame of a skeleton. Raises `Refused`: a name or length that is wrong, a frame that can move unstrained.

    `at` stands before the names of fields.
    """
    skeleton.checked(at)
    nodes = tuple(skeleton.nodes)
    index = {node: k for k, node in enumerate(nodes)}
    places = np.array([skeleton.nodes[node] for node in nodes], dtype=float)
    members = skeleton.members
    ends = np.array([(index[member.i], index[member.j]) for member in members])
    along = places[ends[:, 1]] - places[ends[:, 0]]
    lengths = np.linalg.norm(along, axis=1)
    axes = local_axes(along, np.array([member.roll_deg for member in members]))
    strain = _strain(lengths, axes)

    moves = np.ones((len(nodes), 6), dtype=bool)
    for node, held in skeleton.supports.items():
        moves[index[node]] = ~np.array(held)
    free = moves.ravel()
    number = np.where(free, np.cumsum(free) - 1, int(free.sum()))
    slots = number[(ends[:, :, None] * 6 + np.arange(6)).reshape(len(members), 12)]
    _held(nodes, lengths, strain, slots, free, at)

    of = [skeleton.sections[member.section] for member in members]
    rigid = np.array([(s.e * s.area, s.g * s.j, s.e * s.iy, s.e * s.iz) for s in of]).T
    hardening = np.array([s.hardening or LEAST_HARDENING for s in of])
    per = rigid / lengths
    stiffness = per[..., None] * np.array([[1.0, 1.0], [1.0, 1.0], [4.0, 2.0], [4.0, 2.0]])[:, None, :]
    natural = np.zeros((len(members), 6, 6))
    for component, first, second in ((2, 2, 3), (3, 4, 5)):
        natural[:, first, first] = natural[:, second, second] = stiffness[component, :, 0]
        natural[:, first, second] = natural[:, second, first] = stiffness[component, :, 1]
    natural[:, 0, 0], natural[:, 1, 1] = stiffness[0, :, 0], stiffness[1, :, 0]
    elastic = assembled(np.swapaxes(strain, 1, 2) @ natural @ strain, slots, int(free.sum()))
    return Frame(
        nodes=nodes,
        member_ids=tuple(member.id for member in members),
        places=places,
        ends=ends,
        lengths=lengths,
        axes=axes,
        strain=strain,
        slots=slots,
        free=free,
        stiffness=stiffness,
        back=hardening * per * np.array([1.0, 1.0, 6.0, 6.0])[:, None],
        yields=np.array([(s.np, s.tp, s.mpy, s.mpz) for s in of]).T,
        no_hardening=np.array([s.hardening == 0 for s in of]),
        elastic=elastic,
        flexibility=inverse(elastic),
    )


def assembled(blocks: Floats, slots: NDArray[np.intp], freedoms: int) -> Floats:
    """Return the (f, f) sum of member blocks (m, 12, 12) over the free degrees of freedom."""
    width = freedoms + 1
    where = slots[:, :, None] * width + slots[:, None, :]
    total: Floats = np.bincount(where.ravel(), blocks.ravel(), minlength=width * width).astype(float)
    return total.reshape(width, width)[:-1, :-1]


def _strain(lengths: Floats, axes: Floats) -> Floats:
    """Return (m, 6, 12): natural deformations from global end displacements."""
    count = len(lengths)
    local = np.zeros((count, 6, 12))
    one, per = 1.0, 1.0 / lengths
    local[:, 0, 0], local[:, 0, 6] = -one, one
    local[:, 1, 3], local[:, 1, 9] = -one, one
    for row, end in ((2, 4), (3, 10)):
        local[:, row, end] = one
        local[:, row, 2], local[:, row, 8] = -per, per
    for row, end in ((4, 5), (5, 11)):
        local[:, row, end] = one
        local[:, row, 1], local[:, row, 7] = per, -per
    turned = np.zeros((count, 12, 12))
    for k in range(4):
        turned[:, 3 * k : 3 * k + 3, 3 * k : 3 * k + 3] = axes
    return local @ turned


def inverse(stiffness: Floats) -> Floats:
    """Return the inverse of a stiffness (f, f), symmetric to the last digit."""
    if not len(stiffness):
        return stiffness
    inverse = np.linalg.inv(stiffness)
    return (inverse + inverse.T) / 2


def _held(
    nodes: tuple[str, ...],
    lengths: Floats,
    strain: Floats,
    slots: NDArray[np.intp],
    free: NDArray[np.bool_],
    at: str,
) -> None:
    """Refuse a frame with a movement that strains no member: the kinematics alone say so, whatever the sections."""
    count, size = int(free.sum()), float(np.mean(lengths))
    if not count:
        return
    rows = strain * np.array([1.0, size, size, size, size, size])[None, :, None]
    whole = np.zeros((len(strain) * 6, count + 1))
    for k, slot in enumerate(slots):
        np.add.at(whole[6 * k : 6 * k + 6].T, slot, rows[k].T)
    kinds = np.flatnonzero(free) % 6
    whole = whole[:, :-1] * np.where(kinds < 3, 1.0, 1.0 / size)
    _, sizes, turns = np.linalg.svd(whole, full_matrices=True)
    least = sizes[-1] if len(sizes) >= count else 0.0
    if least > _FREE_MOTION * sizes[0]:
        return
    movement = turns[-1]
    most = int(np.argmax(np.abs(movement)))
    freedom = int(np.flatnonzero(free)[most])
    node, axis = nodes[freedom // 6], _AXES[freedom % 6]
    how = "move" if freedom % 6 < 3 else "turn"
    raise Refused(
        f"The frame can move without straining anything: {node} is free to {how} {axis}. Hold it, or tie it in with a member.",
        field=f"{at}supports",
        value=node,
        details={"free": {"node": node, "direction": ("x", "y", "z", "rx", "ry", "rz")[freedom % 6]}},
    )
