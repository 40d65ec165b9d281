"""Taking a vehicle in: made safe, and photos."""

from typing import Literal

from fairsquare.core.model import Model
from fairsquare.core.who import Who

SafetyAnswer = Literal["done", "absent", "undone"]


class SafetyFact(Model):
    """The last answer to one item of the list that makes the vehicle safe.

    What needs a qualification names who did it, and the number of that person's qualification.
    """

    id: int
    item: str
    answer: SafetyAnswer
    words: str
    by: Who
    done_by: str | None = None
    qualification: str | None = None


class PhotoFact(Model):
    """A photo that is kept: of the job, of a finding (`walk`) or of a member, by its id; the checksum is of what is kept."""

    id: int
    about: Literal["job", "walk", "member", "supplement", "part", "section", "done"]
    about_id: int | None
    name: str
    words: str
    width: int
    height: int
    sha256: str
    by: Who
