"""The damage of a job: its findings, what is bound to them, and what is chosen for each member."""
