"""Who runs where and when: one plan, from which jobs start, forecasts are read and waits explained."""
