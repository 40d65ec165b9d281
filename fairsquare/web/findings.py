"""What asks on which member something is that was seen, wherever that is asked."""

from typing import Any

from fairsquare.actions import JobView
from fairsquare.job.damage.bound import on_members
from fairsquare.job.damage.choices import member_states


def members_offered(view: JobView) -> dict[str, Any]:
    """Return what asks on which member a finding is: where each stands, and the members and layers that there are."""
    states = member_states(view.facts)
    return {
        "on": {on_member.seen.id: on_member for on_member in on_members(view.facts)},
        "member_choices": [
            (f"{state.member} › {state.layer}" if state.layer else state.member, state.name) for state in states
        ],
    }
