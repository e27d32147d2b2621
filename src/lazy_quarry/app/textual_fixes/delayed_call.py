"""Calling something a moment later, for certain.

Textual's own timers leave a turn out when they come late, and one that has a single turn then never comes; so short ones get lost
on a busy machine.
"""

import asyncio
from collections.abc import Callable
from typing import Any

from textual.message_pump import MessagePump


def soon(pump: MessagePump, seconds: float, then: Callable[[], Any]) -> None:
    """Have a widget or the application call something after so many seconds, between its messages."""
    asyncio.get_running_loop().call_later(seconds, pump.call_later, then)
