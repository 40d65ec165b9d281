"""The invented people of the demo and their sign-ins, which everybody may know."""

from typing import NamedTuple

from fairsquare.core.who import Role


class SignIn(NamedTuple):
    """One invented person."""

    name: str
    password: str
    full_name: str
    role: Role


SIGN_INS: tuple[SignIn, ...] = (
    SignIn("ngozi", "tide-tables-40", "Ngozi Adeyemi", "technician"),
    SignIn("mateus", "slipway-rope-7", "Mateus Figueira", "technician"),
    SignIn("solveig", "north-light-12", "Solveig Haraldsen", "lead"),
    SignIn("tomasz", "paper-lantern-3", "Tomasz Wrona", "estimator"),
    SignIn("keahi", "first-season-1", "Keahi Palakiko", "apprentice"),
)
INSTRUMENT = SignIn("instrument", "simulated-arm-360", "Simulated 3-D instrument", "technician")
