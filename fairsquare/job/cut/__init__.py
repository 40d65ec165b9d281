"""The cuts of a job: how each is planned, and what has to be so before metal is cut."""
