"""Holds and what they lack as JSON: the codes with their values, and beside them the words in mm and UTC."""

from fairsquare.core.model import Model
from fairsquare.core.said import Said
from fairsquare.core.who import Role
from fairsquare.job.facts.holds import HoldName, SignatureFact
from fairsquare.job.measure.advice import Advice
from fairsquare.job.missing import Demand, Missing
from fairsquare.job.release.holds import Hold, HoldStatus
from fairsquare.words.tell import tell


class Told(Model):
    """What a rule has to say: in words, in mm and UTC, and as the code and the values that they are made of."""

    words: str
    said: Said


class NextReading(Advice):
    """The reading that would help most, also in words."""

    words: str


class MissingShown(Model):
    """One piece of evidence that is not there; `page` of the job is where it is got, `todo` what can be done instead."""

    words: str
    said: Said
    overridable: bool
    page: str
    todo: str


class DemandShown(Model):
    """One thing that a hold point demands: its evidence, or what is missing."""

    name: str
    title: str
    evidence: str
    missing: tuple[MissingShown, ...]
    todo: str
    page: str


class HoldShown(Model):
    """One hold point as it stands. `reopened` says why a signature no longer holds."""

    name: HoldName
    title: str
    status: HoldStatus
    missing: tuple[MissingShown, ...]
    reopened: tuple[Told, ...]
    signature: SignatureFact | None
    evidence: dict[str, str]
    signers: tuple[Role, ...]
    demands: tuple[DemandShown, ...]


def missing_shown(missing: Missing) -> MissingShown:
    """Return what is missing, with its words."""
    return MissingShown(
        words=tell(missing.said),
        said=missing.said,
        overridable=missing.overridable,
        page=missing.page,
        todo=tell(missing.todo),
    )


def _demand_shown(demand: Demand) -> DemandShown:
    return DemandShown(
        name=demand.name,
        title=tell(demand.title),
        evidence=tell(demand.evidence),
        missing=tuple(missing_shown(lack) for lack in demand.missing),
        todo=tell(demand.todo),
        page=demand.page,
    )


def hold_shown(hold: Hold) -> HoldShown:
    """Return a hold point, with its words."""
    return HoldShown(
        name=hold.name,
        title=hold.title,
        status=hold.status,
        missing=tuple(missing_shown(lack) for lack in hold.missing),
        reopened=tuple(Told(words=tell(cause), said=cause) for cause in hold.reopened),
        signature=hold.signature,
        evidence=hold.evidence,
        signers=hold.signers,
        demands=tuple(_demand_shown(demand) for demand in hold.demands),
    )
