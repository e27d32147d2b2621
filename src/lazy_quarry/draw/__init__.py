"""Charts and drawings as SVG and PDF. Matplotlib is imported only when something is drawn."""
