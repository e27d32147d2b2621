"""The parts that several places use: acts and keys, lists and panes, the frame around them."""
