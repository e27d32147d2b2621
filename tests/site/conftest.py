"""What tests of a site in use share: a clock that stands until it is set, and a site that goes by it."""

import pytest

from tests.conftest import SiteUnderTest, small_site


class Clock:
    def __init__(self, ms=1_000_000):
        self.ms = ms

    def __call__(self):
        return self.ms


@pytest.fixture
def clock():
    return Clock()


@pytest.fixture
def site(clock):
    return SiteUnderTest(small_site(), clock)
