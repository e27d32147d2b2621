"""A study of a site's own past, as its clients see it."""

from msgspec import Struct

from lazy_quarry.study.studied import ForecastMade, Studied


class StudyView(Struct, frozen=True):
    """The progress of a study. ``rows`` are how it was, then each policy that is done; ``settings`` what was otherwise."""

    number: int
    policies: tuple[str, ...]
    since_ms: int
    settings: tuple[str, ...]
    jobs: int
    rows: tuple[Studied, ...] = ()
    policy: str = ""
    """The one that is at work."""
    done: int = 0
    """Jobs of it that have started."""
    own: str = ""
    """The site's own policy."""
    sample: int = 0
    """Number of jobs, at most, of which it is said when they will start; 0 for none."""
    forecasts: tuple[ForecastMade, ...] = ()
    over: bool = False
    problem: str = ""
