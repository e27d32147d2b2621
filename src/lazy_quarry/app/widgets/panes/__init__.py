"""What the lower part of Watch may show: one file a pane."""
