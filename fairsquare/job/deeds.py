"""What people do, in words: each deed as it is recorded with its key, such as `sign SL-0003 fit_accepted`."""

import re
from typing import NamedTuple

from fairsquare.core.intake.safety import SAFETY_BY_KEY
from fairsquare.job.stations import STATIONS

_JOB = re.compile(r"\b([A-Z]{1,9}-[A-Z0-9-]*\d+)\b")
_WORDS: tuple[tuple[str, str], ...] = (
    ("open job", "took a vehicle in"),
    ("change", "changed what was taken in"),
    ("safety", "answered the made-safe list"),
    ("walk back", "took a finding of the walk-round back"),
    ("walk on", "said on which member a finding of the walk-round is"),
    ("walk", "noted a finding of the walk-round"),
    ("line", "looked at what lies behind the hit"),
    ("worth", "weighed value against cost"),
    ("photo", "added a photo"),
    ("sheet", "accepted a sheet"),
    ("set-up", "opened a set-up"),
    ("choose", "chose the references to rely on"),
    ("readings", "took readings"),
    ("take back", "took a reading back"),
    ("order", "ordered readings from the instrument"),
    ("member", "noted how a member looks"),
    ("decide", "decided"),
    ("settle", "settled a contradiction"),
    ("keep fair", "kept a reading in or out"),
    ("sign", "signed"),
    ("move", "recorded that something moved"),
    ("setting", "set up towers and anchors"),
    ("plan day", "planned the day"),
    ("plan", "planned the pulls"),
    ("begin pull", "began a pull"),
    ("board", "went on with a pull"),
    ("cycle", "closed a cycle of a pull"),
    ("load", "read under load"),
    ("section", "described a section"),
    ("weld", "ticked a weld of the drill map"),
    ("cut back", "took a cut back"),
    ("cut", "cut"),
    ("part item", "counted a part off"),
    ("part span", "measured a part"),
    ("part", "checked a part in"),
    ("gap", "read a gap"),
    ("seam", "planned a seam"),
    ("say shop", "said what the shop is"),
    ("say", "said anew"),
    ("note back", "took a note back"),
    ("note", "noted what was done"),
    ("clock end", "ended a clock"),
    ("clock", "started a clock"),
    ("work add", "added work that no clock counted"),
    ("work back", "took a clock of work back"),
    ("work end", "stopped work"),
    ("work", "started work"),
    ("wait over", "noted that it came"),
    ("wait say", "said anew when it is due"),
    ("wait", "noted what is waited for"),
    ("supplement gaps", "made supplement lines of what the estimate leaves out"),
    ("supplement line back", "took a supplement line back"),
    ("supplement line", "raised a supplement line"),
    ("supplement answer", "recorded the payer's answer"),
    ("supplement", "sent a supplement"),
    ("withdraw", "withdrew a supplement's link"),
    ("go ahead", "let work go on without the payer's word"),
    ("record link", "made or withdrew a link to a record"),
    ("record", "made a record"),
    ("make record", "made a record"),
    ("close", "closed the job or opened it again"),
    ("fix", "fixed or let go a piece of the day"),
    ("add gear", "added a piece of rig"),
    ("look at gear", "looked at a piece of rig"),
    ("carry job in", "took in a job that came as a file"),
    ("person role", "gave somebody another role"),
    ("accept key", "accepted another shop’s key"),
    ("take key back", "took another shop’s key back"),
    ("replace key", "made a new key for the shop"),
    ("add tool", "added a tool"),
    ("retire tool", "retired a tool"),
    ("calibrate tool", "wrote down a tool’s calibration"),
    ("check tool", "checked a tool on the reference bar"),
    ("tool event", "took a tool’s calibration or check back"),
    ("add person", "let somebody sign in"),
    ("person active", "let somebody in or shut somebody out"),
    ("password", "changed a password"),
    ("begin practice", "began to practise"),
    ("end practice", "ended a practice"),
)
"""How deeds are said, by how they begin; of two that fit, the longer one."""
_LONGEST_FIRST = sorted(_WORDS, key=lambda one: -len(one[0]))


_HOLDS = {one.key: one.title for one in STATIONS if one.kind == "hold"}


class Deed(NamedTuple):
    """A deed in words, the job that it was done in (empty where in none), and what else is known of it."""

    words: str
    job: str
    more: str


def deed_of(purpose: str) -> Deed:
    """Return a deed in words; one that has no words yet is shown as it was recorded."""
    found = _JOB.search(purpose)
    job = found[1] if found else ""
    begin = next((one for one in _LONGEST_FIRST if re.match(rf"{re.escape(one[0])}\b", purpose)), None)
    if begin is None:
        return Deed(purpose, job, "")
    rest = purpose.removeprefix(begin[0]).replace(job, "", 1).split()
    return Deed(begin[1], job, " ".join(_known(word) for word in rest))


def _known(word: str) -> str:
    safety = SAFETY_BY_KEY.get(word)
    return _HOLDS.get(word) or (safety.title if safety else word.replace("_", " "))


def beginnings(words: str) -> list[str]:
    """Return how the deeds are recorded whose words hold these."""
    wanted = words.casefold()
    return [begin for begin, said in _WORDS if wanted in said.casefold()]
