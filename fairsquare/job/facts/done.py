"""What is done, tried and found from the dry fit to the handing over, each kind with what it says."""

from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.fit.square import Spans
from fairsquare.core.model import Code, Many, Model, NotNegative, Row3
from fairsquare.core.weld.settings import Metal, WeldProcess

DoneKind = Literal[
    "hung", "hinge", "opening", "fixture", "coupon", "weld", "finish", "finished", "outside", "advice", "left_out"
]
Words = Annotated[str, Field(max_length=2000)]
Name = Annotated[str, Field(min_length=1, max_length=120)]
HingeState = Literal["sound", "bent", "worn", "loose"]
CouponEnd = Literal["metal_tore", "held", "let_go", "blew_through"]
COUPON_ENDS: dict[CouponEnd, str] = {
    "metal_tore": "the metal tore, the weld held",
    "held": "held what it should",
    "let_go": "the weld let go",
    "blew_through": "blew through the thin one",
}
COUPON_GOOD: frozenset[CouponEnd] = frozenset({"metal_tore", "held"})
WeldLook = Literal["good", "crack", "burnt_through", "pores", "undercut", "cold"]
LOOKS: dict[WeldLook, str] = {
    "good": "good",
    "crack": "crack",
    "burnt_through": "burnt through",
    "pores": "pores",
    "undercut": "undercut",
    "cold": "cold, did not take",
}
FinishKind = Literal["primer", "sealer", "wax", "noise_pad", "seam_later", "filler", "other"]
FINISHES: dict[FinishKind, str] = {
    "primer": "primer on bare metal",
    "sealer": "seam sealer",
    "wax": "cavity wax",
    "noise_pad": "noise pad",
    "seam_later": "seam for later",
    "filler": "filler and paint",
    "other": "something else",
}
OutsideKind = Literal["alignment", "calibration"]
OUTSIDES: dict[OutsideKind, str] = {
    "alignment": "wheel alignment",
    "calibration": "calibration of driver aids",
}
OutsideEnd = Literal["done", "not_needed", "failed"]
AdviceKind = Literal["overload", "missing_member", "rust", "use", "other"]
ADVICES: dict[AdviceKind, str] = {
    "overload": "carried more than the frame is made for",
    "missing_member": "a member is missing or was taken out",
    "rust": "rust has eaten the metal",
    "use": "the way it is used",
    "other": "something else",
}


class Hung(Model):
    """A trial: a panel was hung, set on its hinges, or taken off again, and whether its weatherstrip was on. Each is work.

    A panel that was set says by how much each hinge was moved (length, width, height, mm), and what its gaps, by their places, were
    to become.
    """

    kind: Literal["hung"] = "hung"
    panel: Code
    off: bool = False
    strip: bool = False
    minutes: NotNegative = 0.0
    words: Words = ""
    moves: dict[Code, Row3] = Field(default_factory=dict)
    predicted: dict[str, float] = Field(default_factory=dict)


class HingeLooked(Model):
    """A hinge as it was found before the panel was judged by it: a bent one looks like a moved structure."""

    kind: Literal["hinge"] = "hinge"
    panel: Code
    hinge: Code
    state: HingeState
    words: Words = ""


class OpeningRead(Model):
    """The cross spans of an opening, as read and as they should be, mm."""

    kind: Literal["opening"] = "opening"
    name: Name
    spans: Spans
    target: Spans
    sigma_mm: NotNegative = 0.5
    tolerance_mm: NotNegative = 3.0


class FixtureSet(Model):
    """A tram or gauge set before the part goes in, as a fixture for it: between which points, and to what, mm."""

    kind: Literal["fixture"] = "fixture"
    tool: Name
    a: Code
    b: Code
    mm: Annotated[float, Field(gt=0, le=50_000)]
    flat: bool = False


class CouponMade(Model):
    """A test coupon for a seam: made with which settings, pulled apart, how that ended, and whether it is accepted."""

    kind: Literal["coupon"] = "coupon"
    seam: int
    process: WeldProcess
    metal: Metal
    governing_mm: Annotated[float, Field(gt=0, le=1e3)]
    settings: Name
    made_by: Name
    end: CouponEnd
    size_mm: NotNegative | None = None
    accepted: bool
    words: Words = ""


class WeldMade(Model):
    """A weld or run as it was made. What looks otherwise than good stays in the log, and is made again."""

    kind: Literal["weld"] = "weld"
    seam: int
    weld: Code
    process: WeldProcess
    settings: Name
    look: WeldLook
    test: Words = ""
    words: Words = ""


class FinishItem(Model):
    """Something that the release waits for: protection, pads, a seam that is reached only with the suspension down."""

    kind: Literal["finish"] = "finish"
    what: FinishKind
    words: Name
    suspension_down: bool = False


class Finished(Model):
    """An item of that list is done."""

    kind: Literal["finished"] = "finished"
    item: int
    words: Words = ""


class OutsideWork(Model):
    """Work of others with its paper: alignment, calibration; or why it is not needed, by the maker's word."""

    kind: Literal["outside"] = "outside"
    what: OutsideKind
    end: OutsideEnd
    by_whom: Name
    paper: Words = ""
    words: Words = ""


class Advice(Model):
    """What broke the structure and how to keep it from breaking again, as advice to the owner."""

    kind: Literal["advice"] = "advice"
    what: AdviceKind
    broke: Name
    keep: Name


class LeftOut(Model):
    """What is knowingly left out of tolerance or unrepaired, and with whose consent."""

    kind: Literal["left_out"] = "left_out"
    what: Name
    why: Name
    consent: Name
    how: Name
    codes: Many[Code] = ()


Done = Annotated[
    Hung
    | HingeLooked
    | OpeningRead
    | FixtureSet
    | CouponMade
    | WeldMade
    | FinishItem
    | Finished
    | OutsideWork
    | Advice
    | LeftOut,
    Field(discriminator="kind"),
]
