"""Running jobs: everything that runs them is behind one Runner protocol."""
