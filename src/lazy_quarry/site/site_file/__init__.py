"""The site file: a machine described as a site, its tables, their faults, and who has which role."""
