"""Values that are made anew with a change: structs of msgspec, and the dataclasses of the modules that run on nodes."""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from dataclasses import replace  # its types are those of both
else:
    import dataclasses

    from msgspec import Struct, structs

    def replace(value: Any, /, **changes: Any) -> Any:
        """A value as another one, but for some of its fields."""
        return (structs.replace if isinstance(value, Struct) else dataclasses.replace)(value, **changes)


__all__ = ["replace"]
