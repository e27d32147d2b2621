level=3
