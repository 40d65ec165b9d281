"""Who did something, and when."""

from typing import Literal

from fairsquare.core.model import Model

Role = Literal["technician", "lead", "estimator", "apprentice"]


class Who(Model):
    """A person at a moment; `at` is UTC, ISO 8601."""

    name: str
    role: Role
    at: str
