"""Jobs that several modules of web tests begin with."""

from tests.web.cutting import decided, planned  # noqa: F401 - fixtures
