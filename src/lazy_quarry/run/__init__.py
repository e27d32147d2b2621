"""The outside world, behind one Runner protocol."""
