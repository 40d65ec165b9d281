"""The skeleton as it is asked for: nodes, members, sections, supports, and the path of loads."""

from typing import Annotated, Self

from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Model, Vector

Positive = Annotated[float, Field(gt=0, le=1e18)]
Six = Annotated[tuple[float, float, float, float, float, float], Field(strict=False)]
SixFlags = Annotated[tuple[bool, bool, bool, bool, bool, bool], Field(strict=False)]


class Section(Model):
    """A cross-section and what it is made of.

    `area` mm²; `iy`, `iz` second moments of area in mm⁴ (`iy` resists bending in the local x-z plane); `j` the St Venant torsion
    constant in mm⁴; `np` N, `tp`, `mpy`, `mpz` N·mm: what the section takes before it yields, each alone; `e`, `g` moduli in
    MPa; `hardening` the share of the elastic stiffness with which a hinge goes on resisting (0 is worked as 1e-7).
    """

    area: Positive
    iy: Positive
    iz: Positive
    j: Positive
    np: Positive
    tp: Positive
    mpy: Positive
    mpz: Positive
    e: Positive
    g: Positive
    hardening: Annotated[float, Field(ge=0, le=1e6)] = 0.01


class FrameMember(Model):
    """A straight prismatic member from node `i` to node `j`; `roll_deg` turns its y and z about its x, right-handed."""

    id: Code
    i: Code
    j: Code
    section: Code
    roll_deg: Annotated[float, Field(ge=-1e6, le=1e6)] = 0.0


class Skeleton(Model):
    """Nodes in mm, members between them, sections by name, and the movements that are held at nodes."""

    nodes: dict[Code, Vector]
    members: Many[FrameMember]
    sections: dict[Code, Section]
    supports: dict[Code, SixFlags]

    def checked(self, at: str = "") -> Self:
        """Return the skeleton. Raises `Refused` with the field for names that are not there, twice there, or lengths of 0.

        `at` stands before the field's name (``skeleton.``).
        """
        if not self.nodes:
            raise Refused("A frame needs nodes.", field=f"{at}nodes", value={})
        if not self.members:
            raise Refused("A frame needs members between its nodes.", field=f"{at}members", value=[])
        seen: set[str] = set()
        for k, member in enumerate(self.members):
            here = f"{at}members.{k}"
            if member.id in seen:
                raise Refused(
                    f"Member {member.id} stands there twice; each needs a name of its own.",
                    field=f"{here}.id",
                    value=member.id,
                )
            seen.add(member.id)
            for end in ("i", "j"):
                node = getattr(member, end)
                if node not in self.nodes:
                    raise Refused(
                        f"Member {member.id} ends at {node}, which is not a node.", field=f"{here}.{end}", value=node
                    )
            if member.section not in self.sections:
                raise Refused(
                    f"Member {member.id} has the section {member.section}, which is not among the sections.",
                    field=f"{here}.section",
                    value=member.section,
                )
            a, b = self.nodes[member.i], self.nodes[member.j]
            if sum((p - q) ** 2 for p, q in zip(a, b, strict=True)) < 1e-12:
                raise Refused(
                    f"Member {member.id} has no length: {member.i} and {member.j} are at one place.",
                    field=here,
                    value=member.id,
                )
        for node in self.supports:
            if node not in self.nodes:
                raise Refused(
                    f"The support at {node} holds no node of the frame.", field=f"{at}supports.{node}", value=node
                )
        return self


class Leg(Model):
    """Loads at nodes, [Fx, Fy, Fz, Mx, My, Mz] in global axes (N, N·mm), reached in `steps` equal increments."""

    to: dict[Code, Six]
    steps: Annotated[int, Field(ge=1, le=100_000)] = 20
