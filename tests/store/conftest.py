"""What several modules of store tests begin with."""

from tests.store.ways import ways  # noqa: F401 - a fixture
