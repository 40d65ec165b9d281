"""What people do in a job, each once: who may, what must be so before, what is recorded. Pages and API both call these."""

from fairsquare.actions.desk import Desk, JobView, Unsure

__all__ = ["Desk", "JobView", "Unsure"]
