"""The zone of this machine, or of the person at it."""

from datetime import tzinfo

from lazy_quarry.core.instants import zone_called


def local_zone_name() -> str:
    """Its name in the IANA database (``TZ`` goes before the machine's own); UTC where it has none."""
    from tzlocal import get_localzone_name

    try:
        return get_localzone_name() or "UTC"
    except (LookupError, OSError, ValueError):
        return "UTC"


def local_zone() -> tzinfo:
    """That zone, with its changes of daylight saving."""
    return zone_called(local_zone_name())
